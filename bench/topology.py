"""Topology: ``./lumtar bench topology``.

Generated networks whose truth is known (trees, rings, leaf-spine, branches with two uplinks): which links are found from what
devices tell of each other, whether 500 random faults are explained by what failed, how long a layout takes, how soon the cause of
1,000 symptoms stands, and the frames while a map of 2,000 devices is moved.
"""

import json
import os
import random
import subprocess
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass

from bench.forwarding import forwarding
from bench.ports import free_port
from bench.serving import browser, sign_in, wait_for
from bench.setting import Figure, database, process, report
from lumtar.core.topology import End, Sighting, links
from lumtar.core.topology.failures import device, explain, port

Cable = tuple[End, End]
DEVICES = (300, 2_000)
FAULTS = 500
SYMPTOMS = 1_000
MIXES = {
    "both ends, with the other's port": (1.0, 1.0),
    "half of them by one end": (0.5, 1.0),
    "both ends, half without the other's port": (1.0, 0.5),
    "half by one end, half without the other's port": (0.5, 0.5),
}
"""How often the second end tells of a link, and how often an end knows the port of the other one."""


class Plan:
    """Cables between numbered devices, each at ports of their own."""

    def __init__(self) -> None:
        self.cables: list[Cable] = []
        self._ports = 0

    def join(self, a: int, b: int) -> None:
        """Another cable."""
        self._ports += 2
        self.cables.append((End(a, self._ports), End(b, self._ports + 1)))


def network(kind: str, size: int, dice: random.Random) -> list[Cable]:
    """The cables of about so many devices; device 1 is where the collector stands."""
    plan = Plan()
    if kind == "tree":
        for number in range(2, size + 1):
            plan.join(max(1, number // 6), number)
    elif kind == "ring":
        for number in range(2, size + 1):
            plan.join(number - 1 if number % 20 != 2 else 1, number)
            if number % 20 == 1 and number > 1:
                plan.join(number, 1)
    elif kind == "leaf-spine":
        spines = max(2, size // 40)
        for spine in range(2, spines + 2):
            plan.join(1, spine)
        for leaf in range(spines + 2, size + 1):
            for spine in dice.sample(range(2, spines + 2), min(4, spines)):
                plan.join(spine, leaf)
    else:
        # Two cores, routers on both, switches behind each; some pairs of switches have two cables.
        plan.join(1, 2)
        number = 3
        while number + 3 <= size:
            plan.join(1, number)
            plan.join(2, number)
            for switch in range(number + 1, number + 4):
                for _ in range(1 + (dice.random() < 0.2)):
                    plan.join(number, switch)
            number += 4
    return plan.cables


KINDS = ("tree", "ring", "leaf-spine", "branches")


def _found(cables: Sequence[Cable], mix: tuple[float, float], dice: random.Random) -> tuple[float, float]:
    """The share of the cables that are found, and of found links that are none."""
    second, known = mix
    seen = list[Sighting]()
    for cable in cables:
        ways = [cable, cable[::-1]]
        dice.shuffle(ways)
        for here, there in ways[: 1 + (dice.random() < second)]:
            seen.append(Sighting(len(seen), here, there if dice.random() < known else End(there.device, None)))
    truth = {frozenset(cable) for cable in cables}
    made = links(seen)
    # A link of which one port is not known stands for the cable at its other port.
    at = {end: frozenset(cable) for cable in cables for end in cable}
    meant = [
        at[link.a] if link.b.port is None else at[link.b] if link.a.port is None else frozenset((link.a, link.b))
        for link in made
    ]
    return len(set(meant) & truth) / len(truth), sum(each not in truth for each in meant) / max(1, len(made))


def discovery() -> list[Figure]:
    """How many links are found, by what devices tell."""
    dice, figures = random.Random(13), []
    for name, mix in MIXES.items():
        found = [_found(network(kind, DEVICES[1], dice), mix, dice) for kind in KINDS]
        figures.append(Figure(f"links found: {name}", 100 * sum(each for each, _ in found) / len(found), "%"))
        figures.append(
            Figure(f"links that are none: {name}", 100 * sum(each for _, each in found) / len(found), "%", "0")
        )
    return figures


@dataclass
class Outcome:
    """What became of one fault's symptoms."""

    right: int = 0
    wrong: int = 0
    called: int = 0
    folded: int = 0


def _one_fault(cables: Sequence[Cable], dice: random.Random, number: int) -> Outcome:
    """So many devices or cables fail at once; what the alarms that follow are put under."""
    joined: dict[int, list[tuple[int, int]]] = {}
    for place, (a, b) in enumerate(cables):
        joined.setdefault(a.device, []).append((b.device, place))
        joined.setdefault(b.device, []).append((a.device, place))
    dead, cut = set[int](), set[int]()
    for _ in range(number):
        if dice.random() < 0.5:
            dead.add(dice.choice([each for each in joined if each != 1]))
        else:
            cut.add(dice.randrange(len(cables)))
    reached, waiting = {1}, [1]
    while waiting:
        for other, place in joined[waiting.pop()]:
            if place not in cut and other not in dead and other not in reached:
                reached.add(other)
                waiting.append(other)
    silent = {each: 100 + 60 * dice.random() for each in joined if each not in reached}
    down = dict[int, float]()
    # What may stand for a fault: the device, or a port of a cable that failed or ends at it.
    failed = {device(each) for each in dead}
    for place, (a, b) in enumerate(cables):
        if place in cut or a.device in dead or b.device in dead:
            failed |= {port(end.port or 0) for end in (a, b)}
            down |= {end.port or 0: 60 * dice.random() for end in (a, b) if end.device in reached}
    found = explain(silent, down, cables)
    outcome, stands = Outcome(), False
    for symptom in [*(device(each) for each in silent), *(port(each) for each in down)]:
        cause = found[symptom].cause if symptom in found else symptom
        outcome.right += cause in failed
        outcome.wrong += cause not in failed
        outcome.called += symptom not in found and symptom not in failed
        stands |= symptom not in found
    outcome.folded = int(not stands and bool(silent or down))
    return outcome


def causes() -> list[Figure]:
    """Whether what failed is what everything else is put under."""
    dice, total, took = random.Random(17), Outcome(), 0.0
    symptoms = 0
    for number in range(FAULTS):
        cables = network(KINDS[number % len(KINDS)], dice.choice((60, 300, DEVICES[1])), dice)
        begun = time.perf_counter()
        one = _one_fault(cables, dice, 1 + number % 2)
        took = max(took, time.perf_counter() - begun)
        total = Outcome(*(getattr(total, name) + getattr(one, name) for name in ("right", "wrong", "called", "folded")))
        symptoms += one.right + one.wrong
    return [
        Figure(
            f"{FAULTS} faults, half of them double: symptoms under what failed",
            100 * total.right / symptoms,
            "%",
            "99 or more",
        ),
        Figure("consequences that somebody is called for", total.called, "", "0"),
        Figure("times that nothing stood for what failed", total.folded, "", "0"),
        Figure("longest explanation of one fault, 2,000 devices, with making it up", took * 1000, "ms"),
    ]


SEED = """
import django
django.setup()
from django.contrib.auth.models import User
from django.utils import timezone
from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Credential, Device, DeviceState, Site
from lumtar.domain.topology.models import ManualLink
import json, sys
User.objects.create_superuser("demo", password="oskelund")
create("bench", "v2c", {"community": "bench-word"})
credential = Credential.objects.get()
pairs = json.load(sys.stdin)
sites = Site.objects.bulk_create(Site(name=f"Site {number}") for number in range(100))
numbers = sorted({number for pair in pairs for number in pair})
devices = Device.objects.bulk_create(
    Device(name=f"box-{n}", address=f"10.{n // 60000}.{n // 250 % 240}.{n % 250 + 1}", credential=credential, site=sites[n % 100])
    for n in numbers
)
known = dict(zip(numbers, devices))
DeviceState.objects.bulk_create(DeviceState(device=each, reach="answers", answered_at=timezone.now()) for each in devices)
ManualLink.objects.bulk_create(
    ManualLink(a_device=known[a], b_device=known[b], entered_by="bench", since=timezone.now()) for a, b in pairs
)
"""
STORM = """
import django
django.setup()
import json, sys, time
from datetime import UTC, datetime
from lumtar.core.alarms.facts import Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, Consequence, Rule
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.inventory.models import Device, DeviceState
rule = Rule.objects.get(name="Reachability")
cut, hub = json.load(sys.stdin)
devices = {int(each.name[4:]): each for each in Device.objects.all()}
DeviceState.objects.update(answered_at=datetime(2100, 1, 1, tzinfo=UTC))
def silent(numbers):
    at = datetime.now(UTC)
    apply([Transition("device", devices[n].pk, "unreachable", str(rule.pk), Severity.CRITICAL, Said("silent"), at, devices[n].pk, rule.pk) for n in numbers])
longest = 0.0
for first in range(0, len(cut), 100):
    begun = time.perf_counter()
    silent(cut[first:first + 100])
    longest = max(longest, time.perf_counter() - begun)
begun = time.perf_counter()
silent([hub])
last = time.perf_counter() - begun
alone = Alarm.objects.exclude(pk__in=Consequence.objects.filter(ended_at=None).values("alarm_id")).filter(is_cleared=False)
print(json.dumps([last, longest, alone.count(), Consequence.objects.filter(ended_at=None).count()]))
"""
PAN = """(turns) => new Promise((resolve) => {
    const map = document.querySelector("[role=group][aria-label^='Map of']");
    const box = map.getBoundingClientRect();
    const frames = [];
    let last = performance.now();
    let turn = 0;
    const at = (x) => ({ clientX: box.x + 300 + x, clientY: box.y + 250, bubbles: true, cancelable: true, view: window });
    map.dispatchEvent(new MouseEvent("mousedown", at(0)));
    const frame = (now) => {
        frames.push(now - last);
        last = now;
        if (turn === turns) {
            window.dispatchEvent(new MouseEvent("mouseup", at(0)));
            return resolve(frames.slice(2));
        }
        window.dispatchEvent(new MouseEvent("mousemove", at(120 * Math.sin(turn / 8))));
        turn += 1;
        requestAnimationFrame(frame);
    };
    requestAnimationFrame(frame);
})"""
TURNS = 90


def _run(script: str, url: str, given: object) -> str:
    env = {**os.environ, "LUMTAR_DATABASE_URL": url}
    done = subprocess.run(
        [sys.executable, "-c", script], env=env, input=json.dumps(given), text=True, capture_output=True
    )
    if done.returncode:
        raise SystemExit(f"bench topology: {done.stderr[-2000:]}")
    return done.stdout


def screens() -> list[Figure]:
    """The cause of 1,000 symptoms in the database, the first look at a map of 2,000 devices, and frames while it is moved."""
    dice, hub = random.Random(19), 2
    # Half of the devices hang on one, which is the last to be noticed.
    half = DEVICES[1] - SYMPTOMS
    pairs = [(a.device, b.device) for a, b in network("tree", half, dice)]
    behind = [*range(half + 1, DEVICES[1] + 1)]
    pairs += [(hub if place < 40 else behind[place // 6], each) for place, each in enumerate(behind)]
    with database() as url:
        _run(SEED, url, pairs)
        web = free_port()
        words = ("uvicorn", "lumtar.server.asgi:application", "--port", str(web), "--log-level", "error")
        with process(*words, env={"LUMTAR_DATABASE_URL": url}), browser() as page:
            wait_for(web)
            base = f"http://127.0.0.1:{web}"
            sign_in(page, base)
            looks = []
            for _ in range(2):
                begun = time.perf_counter()
                page.goto(f"{base}/map?show=devices")
                page.get_by_role("heading", name="All devices").wait_for()
                looks.append(time.perf_counter() - begun)
            page.wait_for_timeout(1500)
            frames = sorted(page.evaluate(PAN, TURNS))
        last, longest, alone, under = json.loads(_run(STORM, url, [behind, hub]))
    return [
        Figure(f"{len(behind):,} symptoms, then their cause: until it stands", last, "s", "below 2"),
        Figure("100 of the symptoms at once, the longest", longest, "s"),
        Figure("alarms that stand then", alone, "", "1"),
        Figure("consequences under it", under, "", f"{len(behind):,}"),
        Figure("first look at 2,000 devices, laid out then", looks[0], "s"),
        Figure("second look", looks[1], "s", "below 2"),
        Figure("frames while moving it, median", frames[len(frames) // 2], "ms", "17"),
        Figure("frames while moving it, 95th percentile", frames[int(0.95 * len(frames))], "ms", "below 33"),
    ]


def layout() -> list[Figure]:
    """Placing everything anew."""
    from lumtar.core.topology.layout import Card, beside
    from lumtar.domain.topology.positions import spread

    figures, dice = [], random.Random(23)
    for size in (*DEVICES, 10_000):
        edges = sorted({(str(a.device), str(b.device)) for a, b in network("branches", size, dice)})
        nodes = sorted({node for edge in edges for node in edge})
        begun = time.perf_counter()
        placed = spread(nodes, edges, Card(132, 78))
        figures.append(Figure(f"layout of {len(nodes):,} devices", time.perf_counter() - begun, "s"))
        begun = time.perf_counter()
        beside(
            placed,
            [f"new {number}" for number in range(40)],
            [(f"new {n}", nodes[n]) for n in range(40)],
            Card(132, 78),
        )
        figures.append(Figure(f"40 new ones beside {len(nodes):,}", time.perf_counter() - begun, "s"))
    return figures


def topology() -> None:
    """All of it."""
    import django

    django.setup()
    report("topology: links from what devices tell, 2,000 devices", discovery())
    report("topology: forwarding tables", forwarding())
    report("topology: causes", causes())
    report("topology: layout", layout())
    report("topology: screens", screens())
