"""Which server somebody asks for in the scenario: the names that exporters of IPFIX tell of TLS, by the server's address."""

import numpy as np
from numpy.typing import NDArray

from lab.answering import INTERNET
from lumtar.core.flows.records import Records

NAME_ELEMENT, LENGTH = 3, 40
FILMS = "brightwater.example"
NAMES = (b"www.wellmere.example", b"films." + FILMS.encode(), b"drive.larchfield.example")
OWNERS = np.array([0] * 16 + [1] * 16 + [2] * 224)
"""Whose server it is, by the last number of an address of version 4."""
HTTPS = 443


def server_names(records: Records) -> NDArray[np.bytes_]:
    """The name of each record's server, in requests and answers alike; empty where nothing is told."""
    found = np.zeros(len(records), f"S{LENGTH}")
    for end in ("src", "dst"):
        is_served = records[f"{end}_port"] == HTTPS
        is_v6 = is_served & (records[f"{end}_hi"] >> np.uint64(16) == INTERNET[0])
        is_v4 = is_served & (records[f"{end}_lo"] >> np.uint64(8) == INTERNET[1])
        found[is_v6] = NAMES[1]
        found[is_v4] = np.array(NAMES)[OWNERS[(records[f"{end}_lo"][is_v4] & np.uint64(255)).astype("i8")]]
    return found
