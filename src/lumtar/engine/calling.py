"""Calling people: moving call plans on as they become due, and handing messages over, many at a time."""

import asyncio
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime

import structlog
from django.db import close_old_connections

from lumtar.domain.alarms import calls, maintenance, messages, sending
from lumtar.domain.alarms.models import Message as Row
from lumtar.domain.calling import contacts
from lumtar.domain.calling.channels import CHANNELS, Message, Undelivered
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.domain.reports import hour_picture
from lumtar.engine.service import with_database

log = structlog.get_logger()
LOOK_S = 0.5
AT_ONCE = 12
"""Messages on their way at the same time, each to another address: a slow receiver keeps nobody else waiting."""


class Caller:
    """Looks for what is due until cancelled."""

    def __init__(self) -> None:
        self.sent = self.failed = 0
        self._pool = ThreadPoolExecutor(AT_ONCE, "sending")
        self._on_their_way: set[asyncio.Future[None]] = set()

    async def run(self) -> None:
        """Look, send, and look again."""
        while True:
            await asyncio.to_thread(with_database, self._make_due)
            free = AT_ONCE - len(self._on_their_way)
            claimed = await asyncio.to_thread(self._claim, free) if free else []
            for pk in claimed:
                sending_one = asyncio.get_running_loop().run_in_executor(self._pool, self._send, pk)
                self._on_their_way.add(sending_one)
                sending_one.add_done_callback(self._on_their_way.discard)
            if len(claimed) < free or not free:
                await asyncio.sleep(LOOK_S)

    @staticmethod
    def _make_due() -> None:
        now = datetime.now(UTC)
        maintenance.begin_due(now)
        calls.advance_due(now)
        sending.gather(now)

    @staticmethod
    def _claim(most: int) -> list[int]:
        close_old_connections()
        return sending.claim(datetime.now(UTC), most)

    def _send(self, pk: int) -> None:
        """Send one message, whatever becomes of it."""
        close_old_connections()
        began = time.monotonic()
        try:
            try:
                answer = deliver(pk)
            except Undelivered as error:
                self.failed += 1
                log.warning("a message was not delivered", message=pk, reason=error.words, again=error.again)
                sending.note_failed(pk, error.words, again=error.again)
                return
            sending.note_sent(pk, answer)
            self.sent += 1
            log.info("message sent", message=pk, took_s=round(time.monotonic() - began, 2))
        except Exception:
            # It counts as being sent until it is tried again.
            log.exception("a message could not be handed over", message=pk)
        finally:
            close_old_connections()


def deliver(pk: int) -> str:
    """Hand one message over; what was answered.

    Raises
    ------
    Undelivered
    """
    row = Row.objects.select_related("address").get(pk=pk)
    if row.address is None or not row.address.enabled:
        raise Undelivered("The address is not used any more.", again=False)
    channel = CHANNELS.get(row.channel)
    if channel is None:
        raise Undelivered(f"There is no channel {row.channel} any more.", again=False)
    try:
        target = contacts.target_of(row.address)
    except SecretUnreadable as error:
        raise Undelivered(str(error), again=False) from error
    message = messages.compose(row)
    return channel.send(target, _with_picture(row.channel, message))


def _with_picture(channel: str, message: Message) -> Message:
    if channel != "mail" or len(message.alarms) != 1:
        return message
    return hour_picture.added_to(message)
