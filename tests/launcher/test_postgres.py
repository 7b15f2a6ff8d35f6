"""How the database of its own is set up."""

import os

import pytest

from launcher import postgres


@pytest.mark.parametrize(
    ("memory_gib", "limit", "wanted_mb"),
    [
        (24, None, 6144),
        (2, None, 512),
        (512, None, 8192),
        (0.25, None, 128),
        (24, "4294967296\n", 1024),
        (24, "max\n", 6144),
    ],
)
def test_its_buffers_are_a_quarter_of_the_memory_that_there_is(monkeypatch, tmp_path, memory_gib, limit, wanted_mb):
    pages = {"SC_PAGE_SIZE": 4096, "SC_PHYS_PAGES": int(memory_gib * 2**30 / 4096)}
    monkeypatch.setattr(os, "sysconf", pages.__getitem__)
    told = tmp_path / "memory.max"
    if limit:
        told.write_text(limit)
    monkeypatch.setattr(postgres, "MEMORY_LIMIT", told)
    assert postgres.shared_buffers_mb() == wanted_mb
