"""Service classes and transports, as people set them up."""

from collections.abc import Mapping

from django.db import models, transaction

from lumtar.core.calling.hours import Hours
from lumtar.core.paths.promises import Promise
from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.named import keep_named
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.paths.models import Path, ServiceClass, Transport

MOST_CLASSES, MOST_TRANSPORTS = 200, 20_000


def promise_of(row: ServiceClass) -> Promise:
    """What a service class promises.

    Raises
    ------
    Refusal
    """
    hours = Hours.of(row.hours, row.zone)
    return Promise(dict(row.limits), float(row.share), hours if hours.spans else None)


def by_path() -> Mapping[int, tuple[int, Promise]]:
    """Of each path that something is promised of its class and the promise."""
    promises = {row.pk: promise_of(row) for row in ServiceClass.objects.all()}
    rows = Path.objects.filter(service_class__isnull=False).values_list("pk", "service_class_id")
    return {path: (number, promises[number]) for path, number in rows if number is not None}


@transaction.atomic
def keep_class(row: ServiceClass, by: str) -> ServiceClass:
    """Keep a service class; what was judged before stays as it was judged.

    Raises
    ------
    Refusal
    """
    promise_of(row)
    return keep_named(row, "service class", by, "paths", most=MOST_CLASSES)


@transaction.atomic
def keep_transport(row: Transport, by: str) -> Transport:
    """Keep a transport.

    Raises
    ------
    Refusal
    """
    row.provider = " ".join(row.provider.split())
    if not 1 <= len(row.provider) <= 120:
        raise Refusal("Say whose transport it is: a provider of up to 120 letters.", "provider")
    for name in ("down_bps", "up_bps"):
        value = getattr(row, name)
        if value is not None and not 0 < value < 10**15:
            raise Refusal("A speed is above nothing, in bits per second.", name)
    if row.price is not None and not 0 <= row.price < 10**10:
        raise Refusal("A price is a number from 0 on.", "price")
    row.currency = row.currency.strip().upper()
    if row.currency and not (len(row.currency) == 3 and row.currency.isalpha()):
        raise Refusal("A currency has three letters (ISO 4217).", "currency")
    return keep_named(row, "transport", by, "paths", most=MOST_TRANSPORTS)


@transaction.atomic
def delete(kind: type[models.Model], pk: int, by: str) -> None:
    """Delete a service class or a transport; paths stay, without it.

    Raises
    ------
    DoesNotExist
    """
    row = kind._default_manager.get(pk=pk)
    row.delete()
    note_action(f"{kind._meta.verbose_name} {row} deleted", by)
    announce("paths")
