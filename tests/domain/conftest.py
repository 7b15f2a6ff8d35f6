"""Things in the database."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.domain.inventory import queries
from lumtar.domain.inventory.models import Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings import partitions

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


@pytest.fixture
def device(db):
    """A device with three ports, and partitions for its readings."""
    today = datetime.now(UTC).date()
    partitions.ensure(min(today, NOW.date()) - timedelta(days=3), max(today, NOW.date()) + timedelta(days=1))
    made = add_device(
        "127.0.0.9", port=1161, name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"}
    )
    Interface.objects.bulk_create(
        Interface(device=made, if_index=index, name=f"wan{index}", label=f"Transport {index}") for index in (1, 2, 3)
    )
    return made


@pytest.fixture
def ports(device):
    return list(device.interfaces.order_by("if_index"))


def polled_port(port):
    """A port as a chart wants to know it."""
    return queries.polled(port.pk)
