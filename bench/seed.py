"""Devices and interfaces of the bench fleet, written as if they had been discovered before."""

import sys

import django


def main(devices: int, ports: int, interval: int) -> None:
    """Write them."""
    django.setup()
    from bench.fleet import COMMUNITY, PORT, address
    from lumtar.domain.inventory.credentials import seal_credential
    from lumtar.domain.inventory.models import Credential, Device, DeviceState, Interface

    credential = Credential.objects.create(
        name="bench", kind="v2c", sealed=seal_credential("v2c", {"community": COMMUNITY})
    )
    made = Device.objects.bulk_create(
        Device(
            name=f"bench-{number:05d}", address=address(number), port=PORT, credential=credential, interval_s=interval
        )
        for number in range(devices)
    )
    DeviceState.objects.bulk_create(DeviceState(device=device) for device in made)
    Interface.objects.bulk_create(
        (
            Interface(
                device=device,
                if_index=index,
                name=f"g{index}",
                descr=f"acc port g{index}",
                alias=f"Port {index}",
                label=f"Port {index}",
                if_type=6,
            )
            for device in made
            for index in range(1, ports + 1)
        ),
        batch_size=5000,
    )


def newest() -> None:
    """A newest state for every interface, all different, and somebody who may look."""
    from django.contrib.auth.models import User
    from django.db import connection

    User.objects.create_superuser("bench")
    with connection.cursor() as cursor:
        cursor.execute(
            """INSERT INTO readings_newest (interface_id, at, base_at, since, counters, uptime, discontinuity, port_bps, flags, oper,
                admin, holds, moved, present, wide, in_bps, out_bps, in_percent, out_percent, error_rate)
            SELECT id, now(), now(), now(), '{}', 0, 0, 1000000000, 0, 1, 1, 0, true, true, true,
                1e7 * (id % 97), 1e7 * (id % 53), id % 97, id % 53, (id % 11) / 10.0 FROM inventory_interface"""
        )
        cursor.execute("ANALYZE")


def groups() -> None:
    """Ten groups, each by another condition, the last one of all others."""
    from lumtar.domain.inventory.groups import GroupSpec, save

    subgroups = [
        save(GroupSpec(f"Every g{n}", f'name is g{n} or label like "*t 1{n}"'), "bench").pk for n in range(1, 10)
    ]
    save(GroupSpec("All of them", subgroups=subgroups), "bench")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:4]))
