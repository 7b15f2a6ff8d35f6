"""Malformed flow datagrams: ``./lumtar bench malformed``.

Ten million of them, made of true ones by changing, cutting and joining octets, are read as the receiver reads them: nothing may be raised
that is not a refusal, and memory may not grow.
"""

import os
import resource
import time

import numpy as np

from bench.setting import Figure, report

NUMBER, AT_ONCE = int(os.environ.get("LUMTAR_MALFORMED", "10000000")), 2_000


def _true_ones(now: float) -> list[bytes]:
    """Some datagrams of each protocol."""
    from lab.flow_encoding import Encoder
    from lab.sflow_encoding import SflowEncoder
    from lumtar.core.flows.records import MAPPED, empty

    records = empty(40)
    records["src_lo"], records["dst_lo"] = MAPPED | 0x0A000001, MAPPED | 0xC6336401
    records["octets"], records["packets"], records["protocol"], records["end"] = 900, 1, 6, now
    records["start"] = now - 5
    made = []
    for protocol in ("netflow5", "netflow9", "ipfix"):
        made += Encoder(protocol).datagrams(records, now, now - 500)
    return made + SflowEncoder("127.0.0.1").datagrams(records, now, now - 500)


def _changed(true_ones: list[bytes], dice: np.random.Generator) -> list[bytes]:
    made = []
    for _ in range(AT_ONCE):
        data = bytearray(true_ones[int(dice.integers(len(true_ones)))])
        for _ in range(int(dice.integers(1, 6))):
            data[int(dice.integers(len(data)))] = int(dice.integers(256))
        cut = int(dice.integers(1, len(data) + 1)) if dice.random() < 0.3 else len(data)
        made.append(bytes(data[:cut]))
    return made


def malformed() -> None:
    """How many were read, and how memory went."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "lumtar.server.settings")
    import django

    django.setup()
    from lumtar.engine.flows.totals import Totals

    dice, totals, now = np.random.default_rng(11), Totals(), time.time()
    true_ones = _true_ones(now)
    # The same ones are read again and again from many senders: making them costs more than reading them.
    pools = [_changed(true_ones, dice) for _ in range(50)]
    done, begun, early = 0, time.process_time(), 0
    while done < NUMBER:
        pool = pools[int(dice.integers(len(pools)))]
        shift = int(dice.integers(5_000))
        totals.take([(data, f"127.{shift % 200}.{place % 20}.1") for place, data in enumerate(pool)], now)
        totals.closed(now + 600)
        done += len(pool)
        if not early and done > NUMBER // 5:
            early = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    late = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    spent = time.process_time() - begun
    report(
        "Malformed flow datagrams",
        [
            Figure("datagrams", float(done), ""),
            Figure("of them refused", 100 * totals.counted["malformed"] / done, "%"),
            Figure("a CPU-second", done / spent, ""),
            Figure("memory at a fifth of them", early / 1024, "MiB"),
            Figure("memory at the end", late / 1024, "MiB", "as at a fifth"),
        ],
    )
