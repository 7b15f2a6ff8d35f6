"""Reading the errors that only Ethernet interfaces have."""

import numpy as np

from lumtar.core.ethernet import Seen
from lumtar.wire import ber, oids
from lumtar.wire.session import Session
from lumtar.wire.tables import read_columns

COLUMNS = (oids.DOT3_FCS, oids.DOT3_ALIGNMENT, oids.DOT3_LATE, oids.DOT3_DUPLEX)


async def read_ethernet(session: Session, at: float, uptime: int) -> Seen:
    """What a device shows of its Ethernet interfaces.

    Raises
    ------
    Fault
    """
    columns = await read_columns(session, COLUMNS[:1])
    indexes = columns[0].indexes
    if indexes:
        columns += await read_columns(session, COLUMNS[1:], len(indexes))
    tables = [dict(zip(column.indexes, column.values, strict=True)) for column in columns]
    counts = np.zeros((len(indexes), len(COLUMNS)), np.int64)
    for row, index in enumerate(indexes):
        for place, table in enumerate(tables):
            value = table.get(index)
            counts[row, place] = value if isinstance(value, int) else 0
    numbers = np.array([ber.suffix(index)[-1] for index in indexes], np.int64)
    return Seen(at, uptime, numbers, counts[:, :3], counts[:, 3])
