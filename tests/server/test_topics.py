"""What is announced, and who follows it."""

import re
from pathlib import Path
from typing import get_args

from lumtar.domain.operation.topics import Topic


def test_the_screens_know_every_topic_that_is_announced():
    """A topic that they do not know would make nothing stale, or everything."""
    told = (Path(__file__).parents[2] / "web/src/api/topics.ts").read_text()
    table = told[told.index("STALE = {") : told.index("} as const")]
    assert set(re.findall(r"^  (\w+):", table, re.M)) == set(get_args(Topic))
