"""What response times are called that were put together."""

from collections.abc import Sequence

from lumtar.domain.flows import applications
from lumtar.domain.flows.halves import address_of
from lumtar.domain.flows.response_times import Row
from lumtar.domain.inventory.models import Device
from lumtar.domain.reports.traffic import ELSEWHERE, Named, known_addresses, service_name, site_names


def names_of(by: str, rows: Sequence[Row]) -> list[Named]:
    """What each row is called, and the filters that narrow traffic to it."""
    if by == "application":
        names = applications.names()
        return [
            Named(names.get(number, f"application {number}"), "", {"application": str(number)})
            for (number,) in (row.key for row in rows)
        ]
    if by == "site":
        sites = site_names()
        return [
            Named(
                f"{sites.get(client, ELSEWHERE)} asks {sites.get(server, ELSEWHERE)}",
                "",
                {"src_site": str(client), "dst_site": str(server)},
            )
            for client, server in (row.key for row in rows)
        ]
    if by == "exporter":
        devices = dict(Device.objects.filter(pk__in=[row.key[0] for row in rows]).values_list("pk", "name"))
        return [
            Named(devices.get(pk, "a device that was deleted"), "", {"device": str(pk)})
            for (pk,) in (row.key for row in rows)
        ]
    return _servers(rows)


def _servers(rows: Sequence[Row]) -> list[Named]:
    texts = ["" if row.key[4] else address_of(row.key[0], row.key[1]) for row in rows]
    known = known_addresses({text for text in texts if text})
    return [
        Named(
            f"{text} {service_name(row.key[2], row.key[3])}",
            known.get(text, ""),
            {"address": text, "protocol": str(row.key[2]), "port": str(row.key[3])},
        )
        if text
        else Named("servers of few answers together", "", {})
        for row, text in zip(rows, texts, strict=True)
    ]
