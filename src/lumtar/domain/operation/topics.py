"""What is announced to the event stream; web/src/api/topics.ts says which screens follow each of them."""

from typing import Literal

Topic = Literal[
    "readings", "alarms", "logbook", "devices", "polls", "sweeps", "sums", "groups", "rules", "calling", "maintenance", "sessions",
    "topology", "flows", "paths", "controllers",
]  # fmt: skip
