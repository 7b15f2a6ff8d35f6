"""A storm of raises and clears while every process is killed: ``./lumtar bench storm``, LUMTAR_KILLS=N for N kills.

An installation of its own with two collectors polls stand-ins whose ports fill and empty again and again; people are called by
mail, and somebody comments on alarms through the API all the time. Collectors, worker, web and database are killed (-9) at
moments that a seed decides. Then the stand-ins come to rest, every other port full. In the end the alarms have to be those of an
undisturbed run, every status has to follow from the one before, every message has to have been delivered and none that is not
known by its key, and every comment that was answered has to be there once.
"""

import json
import os
import random
import signal
import sys
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from email import message_from_bytes
from pathlib import Path
from typing import Any

import psycopg
import yaml

from bench.faults import INTERVAL_S, Installation, send, small_disk
from bench.fleet import COMMUNITY, PORT, address
from bench.ports import free_port
from bench.setting import Figure, process, report
from lab.mail import mails, sink

DEVICES, PORTS = 6, 4
EVERY_S = 5.0
"""Seconds between two kills, about."""
PATIENCE_S = 90.0
"""Seconds that everything has to come to rest."""
RULE = {
    "name": "Utilisation",
    "mail_to": ["duty@oskelund.example", "night@oskelund.example"],
    "levels": [{"severity": 4, "limit": 60, "clear": 50}],
    "times": 1,
    "of": 1,
}

STATUSES = """SELECT p.if_index, coalesce(NOT a.is_cleared, false) FROM inventory_interface p
    LEFT JOIN alarms_alarm a ON a.interface_id = p.id AND a.type = 'utilisation'"""
REPEATED = """SELECT count(*) FROM (SELECT severity, lag(severity, 1, 0::smallint) OVER (PARTITION BY alarm_id ORDER BY at, id) AS was
    FROM alarms_alarmchange) c WHERE (severity > 0) = (was > 0)"""
UNSENT = """SELECT count(*) FROM alarms_notification n LEFT JOIN alarms_message m ON m.id = n.message_id
    WHERE n.due_at <= now() AND m.state IS DISTINCT FROM 'sent'"""
TWICE = """SELECT count(*) FROM (SELECT 1 FROM alarms_notification GROUP BY change_id, address_id, step, round HAVING count(*) > 1) t"""
UNTOLD = """SELECT count(*) FROM alarms_alarmchange c JOIN alarms_alarm a ON a.id = c.alarm_id WHERE a.type = 'utilisation'
    AND c.severity > 0 AND NOT EXISTS (SELECT 1 FROM alarms_notification n WHERE n.change_id = c.id)"""


class Api:
    """Asks an installation."""

    def __init__(self, target: Installation, token: str) -> None:
        self._address = f"http://127.0.0.1:{target.web}/api/v1"
        self._headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}

    def ask(self, path: str, body: dict[str, Any] | None = None) -> Any:
        """What it answers; with a body it is a POST."""
        data = json.dumps(body).encode() if body else None
        request = urllib.request.Request(f"{self._address}/{path}", data=data, headers=self._headers)
        with urllib.request.urlopen(request, timeout=4) as answer:
            return json.load(answer)


class Commenting:
    """Somebody who comments on alarms through the API as fast as it answers, and knows what was answered."""

    def __init__(self, api: Api) -> None:
        self._api = api
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._work)
        self.answered: list[str] = []
        self.failed = 0

    @contextmanager
    def commenting(self) -> Iterator[None]:
        """Do so meanwhile."""
        self._thread.start()
        try:
            yield
        finally:
            self._ending.set()
            self._thread.join()

    def _work(self) -> None:
        number = 0
        while not self._ending.wait(0.1):
            number += 1
            text = f"comment {number}"
            try:
                rows = self._api.ask("alarms")["rows"]
                if rows:
                    body = {"alarms": [rows[number % len(rows)]["id"]], "kind": "comment", "text": text}
                    self._api.ask("alarms/actions", body)
                    self.answered.append(text)
            except (OSError, ValueError, KeyError, urllib.error.URLError):
                self.failed += 1


def _set_up(target: Installation) -> Api:
    """Devices, and a rule that calls; gives what the API is asked by."""
    target.lumtar("manage", "createsuperuser", "--noinput", "--username", "storm", "--email", "storm@oskelund.example")
    token = target.lumtar("manage", "apitoken", "storm").strip().splitlines()[-1]
    target.lumtar("manage", "apply", "-", typed=yaml.safe_dump({"rules": [RULE]}))
    api = Api(target, token)
    credential = api.ask("credentials", {"name": "Storm", "kind": "v2c", "secret": {"community": COMMUNITY}})["id"]
    for number in range(DEVICES):
        told = {"address": address(number), "port": PORT, "credential": credential}
        api.ask("devices", told)
    with target.connect() as asking:
        # As often as nobody may poll by the screens.
        asking.execute("UPDATE inventory_device SET interval_s = %s, timeout_s = 1, tries = 3", [INTERVAL_S])
    return api


def _kills(target: Installation) -> dict[str, Callable[[], None]]:
    def kill(name: str) -> Callable[[], None]:
        return lambda: send(target.numbers(name), signal.SIGKILL)

    def kill_database() -> None:
        if number := target.postmaster():
            send([number], signal.SIGKILL)

    return {"database": kill_database, **{name: kill(name) for name in ("collector", "collector-2", "worker", "web")}}


def _at_rest(target: Installation) -> bool:
    """Whether everything is as it has to be, as far as that takes its time."""
    try:
        with target.connect() as asking:
            wrong = [row for row in asking.execute(STATUSES).fetchall() if row[1] != bool(row[0] % 2)]
            return not wrong and _count(asking, UNSENT) == 0
    except psycopg.Error:
        return False


def _count(asking: psycopg.Connection[Any], sql: str) -> int:
    row = asking.execute(sql).fetchone()
    assert row is not None
    return int(row[0])


def _differences(target: Installation, folder: Path, somebody: Commenting) -> list[str]:
    """What is not as an undisturbed run would have left it."""
    different = []
    with target.connect() as asking:
        for index, active in asking.execute(STATUSES).fetchall():
            if active != bool(index % 2):
                different.append(f"a port {index} is {'in alarm' if active else 'not in alarm'} in the end")
        for what, sql in (
            ("statuses do not follow from the one before", REPEATED),
            ("notifications that are due were not sent", UNSENT),
            ("notifications are there twice", TWICE),
            ("alarms were raised and nobody was told", UNTOLD),
        ):
            if number := _count(asking, sql):
                different.append(f"{number} {what}")
        kept = {f"<message-{row[0]}@localhost>" for row in asking.execute("SELECT id FROM alarms_message").fetchall()}
        comments = Counter(row[0] for row in asking.execute("SELECT text FROM alarms_alarmaction").fetchall())
    delivered = {message_from_bytes(raw)["Message-ID"] for raw in mails(folder)}
    if missing := kept - delivered:
        different.append(f"{len(missing)} messages never arrived")
    if unknown := delivered - kept:
        different.append(f"{len(unknown)} messages arrived that nobody knows by their key")
    if lost := [text for text in somebody.answered if comments[text] != 1]:
        different.append(f"{len(lost)} comments that were answered are not there once")
    return different


def _rage(target: Installation, number: int, dice: random.Random, rest: float) -> Counter[str]:
    """Kill so many processes, each kind once and then whichever the dice say, and wait until everything is at rest."""
    done, kills = Counter[str](), _kills(target)
    for name in [*kills, *dice.choices(sorted(kills), k=max(0, number - len(kills)))][:number]:
        time.sleep(dice.uniform(0.5, 1.5) * EVERY_S)
        print(f"  {sum(done.values()) + 1}/{number}: kill -9 {name}", flush=True)
        kills[name]()
        done[name] += 1
    time.sleep(max(0.0, rest - time.monotonic()))
    limit = time.monotonic() + PATIENCE_S
    with suppress(psycopg.Error), target.connect() as asking:
        # What a dead worker was sending is sent again after two minutes: here they are over.
        asking.execute("UPDATE alarms_message SET next_at = now() WHERE state = 'sending'")
    while time.monotonic() < limit and not _at_rest(target):
        time.sleep(1.0)
    return done


def run(number: int, seed: int) -> tuple[Counter[str], list[str], dict[str, int]]:
    """So many kills in a storm; what was killed, what differs in the end, and how much there was of what."""
    storm_s = 40.0 + EVERY_S * number
    with small_disk() as folder:
        target, post = Installation(folder), sink(folder / "mail", free_port())
        target.environment |= {"LUMTAR_MAIL_URL": f"smtp://127.0.0.1:{post.port}", "LUMTAR_GATHER_S": "1"}
        post.start()
        try:
            target.start()
            fleet = ("bench.fleet", str(DEVICES), str(PORTS), str(storm_s + 4 * PATIENCE_S), "0.2", str(storm_s))
            with process(*fleet, ready=True) as raging:
                somebody = Commenting(_set_up(target))
                raging.send_signal(signal.SIGUSR1)
                rest = time.monotonic() + storm_s
                with somebody.commenting():
                    done = _rage(target, number, random.Random(seed), rest)
            different = _differences(target, folder / "mail", somebody)
            with target.connect() as asking:
                counts = {
                    "changes of alarms": _count(asking, "SELECT count(*) FROM alarms_alarmchange"),
                    "messages": _count(asking, "SELECT count(*) FROM alarms_message"),
                    "comments answered": len(somebody.answered),
                }
        finally:
            target.lumtar("stop")
            post.stop()
    return done, different, counts


def storm() -> None:
    """Kill everything in a storm of alarms, and report what that came to."""
    number, seed = int(os.environ.get("LUMTAR_KILLS", "40")), int(os.environ.get("LUMTAR_FAULTS_SEED", "7"))
    done, different, counts = run(number, seed)
    for each in different:
        print(f"  DIFFERENCE {each}")
    figures = [Figure(f"kill -9 {name}", count, "times") for name, count in sorted(done.items())]
    figures += [Figure(name, count, "") for name, count in counts.items()]
    figures.append(Figure("differences from an undisturbed run", len(different), "", "0"))
    report(f"storm: {number} kills with seed {seed}", figures)
    if different:
        sys.exit(1)
