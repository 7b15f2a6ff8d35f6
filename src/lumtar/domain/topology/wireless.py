"""Access points and wireless clients, over time: which networks there are, who is where, and at which ports access points are."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

from django.db.models import F, Q, QuerySet

from lumtar.core.topology.wireless import AccessPoint as Told
from lumtar.core.topology.wireless import Client, Wireless
from lumtar.domain.inventory.models import Device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.topology.models import AccessPoint, WirelessClient
from lumtar.domain.topology.stations import KEPT, PAUSE

MOST_NEWS = 6
"""Access points of one look that the logbook names one by one."""


def keep(device: int, told: Wireless, at: datetime) -> bool:
    """Keep what a device tells of access points and clients. Returns whether access points or networks are others than before."""
    before = networks_of(device)
    is_other = _keep_points(device, told.points, at)
    _keep_clients(device, told.clients, at)
    return is_other or networks_of(device) != before


def networks_of(device: int) -> set[tuple[int, str]]:
    """Which networks there are now at which access points of a controller."""
    rows = WirelessClient.objects.filter(device=device, gone_at=None)
    return set(rows.values_list("access_point_id", "network").distinct())


def _keep_points(device: int, points: Sequence[Told], at: datetime) -> bool:
    known = {row.key: row for row in AccessPoint.objects.filter(controller=device)}
    new, changed, news = [], [], []
    for each in points:
        row = known.get(each.key)
        if row is None:
            row = AccessPoint(controller_id=device, key=each.key[:200], since=at, changed_at=at, is_up=each.is_up)
            _take_over(row, each)
            new.append(row)
            continue
        is_back = row.gone_at is not None
        was = False if is_back else row.is_up
        if was is not None and each.is_up is not None and was != each.is_up:
            news.append(f"{each.name} {'joined' if each.is_up else 'left'} its controller")
            row.changed_at = at
        if _take_over(row, each) or row.is_up != each.is_up or is_back:
            row.is_up, row.gone_at = each.is_up, None
            changed.append(row)
    listed = {each.key for each in points} | {""}
    gone = [row for key, row in known.items() if key not in listed and row.gone_at is None]
    news += [f"{row.name} is not listed by its controller any more" for row in gone]
    for row in gone:
        row.gone_at = at
    AccessPoint.objects.bulk_create(new)
    AccessPoint.objects.bulk_update(
        [*changed, *gone], ["name", "mac", "address", "model", "is_up", "changed_at", "gone_at"], batch_size=1000
    )
    _note(device, news, at)
    return bool(new or changed or gone)


def _take_over(row: AccessPoint, told: Told) -> bool:
    """Take over what a controller says of an access point; whether that is something else."""
    said = {"name": told.name[:255], "mac": told.mac, "address": told.address or None, "model": told.model[:255]}
    is_other = any(getattr(row, name) != value for name, value in said.items())
    for name, value in said.items():
        setattr(row, name, value)
    return is_other


def _note(device: int, news: Sequence[str], at: datetime) -> None:
    """Access points that came and went are news."""
    texts = [f"access point {words}" for words in news]
    if len(texts) > MOST_NEWS:
        texts = [f"{len(texts)} access points joined or left their controller"]
    Entry.objects.bulk_create(
        Entry(at=at, kind=Entry.Kind.TOPOLOGY, device_id=device, text=text[:400]) for text in texts
    )


def _itself(device: int, at: datetime) -> int:
    """The access point that a device is itself."""
    name, mac = Device.objects.values_list("name", "base_mac").get(pk=device)
    row, _ = AccessPoint.objects.get_or_create(
        controller_id=device, key="", defaults={"name": name, "mac": mac, "since": at, "changed_at": at}
    )
    return row.pk


def _keep_clients(device: int, clients: Sequence[Client], at: datetime) -> None:
    points = dict(AccessPoint.objects.filter(controller=device).exclude(key="").values_list("key", "pk"))
    if any(each.point not in points for each in clients):
        points[""] = _itself(device, at)
    wanted = {
        (each.mac, points.get(each.point) or points[""], each.network[:64]): (each.address or None, each.signal_dbm)
        for each in clients
    }
    known = {
        (row.mac, row.access_point_id, row.network): row
        for row in WirelessClient.objects.filter(device=device, gone_at=None)
    }
    WirelessClient.objects.filter(pk__in=[row.pk for key, row in known.items() if key not in wanted]).update(gone_at=at)
    new = wanted.keys() - known.keys()
    back = _back(device, new, at)
    changed = []
    for key, row in (known | back).items():
        said = wanted.get(key)
        if said is not None and (said != (row.address, row.signal_dbm) or row.gone_at is not None):
            (row.address, row.signal_dbm), row.gone_at = said, None
            changed.append(row)
    WirelessClient.objects.bulk_update(changed, ["address", "signal_dbm", "gone_at"], batch_size=2000)
    WirelessClient.objects.bulk_create(
        (
            WirelessClient(
                mac=mac,
                device_id=device,
                access_point_id=point,
                network=network,
                address=wanted[mac, point, network][0],
                signal_dbm=wanted[mac, point, network][1],
                since=at,
            )
            for mac, point, network in sorted(new - back.keys())
        ),
        batch_size=5000,
    )


Key = tuple[str, int, str]


def _back(device: int, new: Iterable[Key], at: datetime) -> dict[Key, WirelessClient]:
    """Those that were away for a short time only, and nowhere else meanwhile, are as if they had been there."""
    wanted = set(new)
    rows = WirelessClient.objects.filter(device=device, gone_at__gt=at - PAUSE, mac__in={mac for mac, _, _ in wanted})
    last: dict[str, WirelessClient] = {row.mac: row for row in rows.order_by("gone_at")}
    return {key: row for row in last.values() if (key := (row.mac, row.access_point_id, row.network)) in wanted}


def clients_at(at: datetime) -> QuerySet[WirelessClient]:
    """The clients that were there at a time."""
    there = Q(gone_at=None) | Q(gone_at__gt=at)
    return WirelessClient.objects.filter(there, since__lte=at, device__retired_at=None)


def stays_of(macs: Iterable[str], at: datetime, most: int = 20) -> Mapping[str, list[WirelessClient]]:
    """Where clients were until a time, the latest first."""
    rows = WirelessClient.objects.filter(mac__in=set(macs), since__lte=at, device__retired_at=None)
    found: dict[str, list[WirelessClient]] = {}
    for row in rows.select_related("access_point").order_by(F("gone_at").desc(nulls_first=True), "-since"):
        if len(stays := found.setdefault(row.mac, [])) < most:
            stays.append(row)
    return found


def networks(at: datetime) -> list[tuple[str, int]]:
    """The wireless networks at a time by name, each with how many clients it has."""
    found: dict[str, int] = {}
    for network in clients_at(at).values_list("network", flat=True):
        found[network] = found.get(network, 0) + 1
    return sorted(found.items())


def forget(now: datetime) -> int:
    """Forget who was somewhere long ago, and access points that went long ago. Returns how many rows that were."""
    stays, _ = WirelessClient.objects.filter(gone_at__lt=now - KEPT).delete()
    points, _ = AccessPoint.objects.filter(gone_at__lt=now - KEPT).delete()
    return stays + points
