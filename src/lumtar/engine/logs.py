"""Logs for machines: one JSON object a line."""

import logging
import sys
from typing import TextIO

import structlog


class Unbreakable:
    """Writes to a stream as long as it can: a full disk takes a log line, never the service that wrote it."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self.lost = 0

    def write(self, text: str) -> int:
        """Write, or count what could not be written."""
        try:
            return self._stream.write(text)
        except OSError:
            self.lost += 1
            return 0

    def flush(self) -> None:
        """Hand on what was written."""
        try:
            self._stream.flush()
        except OSError:
            self.lost += 1


def configure() -> None:
    """Set up structlog and take the standard library's warnings along."""
    stream = Unbreakable(sys.stderr)
    logging.raiseExceptions = False
    logging.basicConfig(stream=stream, level=logging.WARNING, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        logger_factory=structlog.PrintLoggerFactory(stream),  # type: ignore[arg-type]
    )
