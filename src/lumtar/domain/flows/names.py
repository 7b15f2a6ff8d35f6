"""Names of addresses by DNS: those with most traffic first, a few at a time, as the machine resolves them."""

import socket
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor, wait
from datetime import datetime, timedelta

from django.db import connection

from lumtar.core.text import clean
from lumtar.domain.flows.halves import address_of
from lumtar.domain.flows.models import AddressName
from lumtar.domain.flows.store import MINUTES

MOST, AT_ONCE = 300, 16
LIMIT_S = 60.0
"""What is not answered by then is asked again another time."""
LASTING = timedelta(days=1)
LOOKED_BACK = timedelta(hours=1)

LARGEST = f"""WITH ends AS (
        SELECT src_hi AS hi, src_lo AS lo, octets FROM {MINUTES} WHERE at > %(since)s AND is_counted AND NOT is_rest
        UNION ALL SELECT dst_hi, dst_lo, octets FROM {MINUTES} WHERE at > %(since)s AND is_counted AND NOT is_rest
    ) SELECT hi, lo FROM ends GROUP BY hi, lo ORDER BY sum(octets) DESC LIMIT %(most)s"""


def resolve(address: str) -> str:
    """The name of an address; empty if it has none."""
    try:
        return clean(socket.gethostbyaddr(address)[0].encode())
    except (OSError, UnicodeError):
        return ""


def renew(now: datetime, ask: Callable[[str], str] = resolve) -> int:
    """Look up the addresses with most traffic whose names are not known, or are old. Returns how many were answered."""
    AddressName.objects.filter(asked_at__lt=now - LASTING).delete()
    with connection.cursor() as cursor:
        cursor.execute(LARGEST, {"since": now - LOOKED_BACK, "most": 20 * MOST})
        largest = [address_of(hi, lo) for hi, lo in cursor.fetchall()]
    known = set(AddressName.objects.filter(address__in=largest).values_list("address", flat=True))
    wanted = [each for each in largest if each not in known][:MOST]
    pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="names")
    asked = {pool.submit(ask, each): each for each in wanted}
    answered, _ = wait(asked, LIMIT_S)
    # A resolver that does not answer holds its thread for a while, and nobody waits for it.
    pool.shutdown(wait=False, cancel_futures=True)
    rows = [AddressName(address=asked[each], name=each.result()[:255], asked_at=now) for each in answered]
    AddressName.objects.bulk_create(rows, ignore_conflicts=True)
    return len(rows)


def named(addresses: Collection[str]) -> dict[str, str]:
    """The names of some addresses that have one."""
    rows = AddressName.objects.filter(address__in=addresses).exclude(name="")
    return dict(rows.values_list("address", "name"))
