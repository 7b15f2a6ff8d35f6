"""Asking controllers: each when it is due, side by side, one after another failure, and what can go wrong on the way."""

import asyncio
from contextlib import asynccontextmanager, suppress
from datetime import timedelta

import pytest
from asgiref.sync import sync_to_async
from django.db import OperationalError
from django.utils import timezone

from lab.controller import PASSWORD, USER
from lumtar.core.controllers import SignIn
from lumtar.domain.controllers import answers, services
from lumtar.domain.controllers.models import Controller, ControllerItem, ControllerProfile
from lumtar.domain.operation import secrets
from lumtar.engine import controllers as engine
from lumtar.engine.errands import ERRANDS
from lumtar.wire import rest
from tests.engine.conftest import eventually
from tests.lab.overlay import LISTS, SECRET, SIGN_IN, overlay

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def running(monkeypatch):
    monkeypatch.setattr(engine, "LOOK_S", 0.05)
    with overlay() as made:
        yield made


@sync_to_async
def kept(running, name="Manager"):
    profile = ControllerProfile.objects.first() or services.keep_profile(
        ControllerProfile(name="County overlay"), SIGN_IN, LISTS, "anna"
    )
    row = Controller(name=name, base=running[1], profile=profile, authority=running[2])
    return services.keep_controller(row, "anna", SECRET)


@asynccontextmanager
async def asking():
    task = asyncio.create_task(engine.Controllers().run())
    try:
        yield task
    finally:
        task.cancel()
        with suppress(asyncio.CancelledError):
            await task


def answered(row):
    return Controller.objects.get(pk=row.pk).answered_at


async def test_one_is_asked_at_once_and_then_when_it_is_due(running):
    made = await kept(running)
    async with asking():
        first = await eventually(lambda: answered(made))
        await asyncio.sleep(0.5)
        assert await sync_to_async(answered)(made) == first, "it is not due for a minute"
        earlier = timezone.now() - timedelta(seconds=61)
        await Controller.objects.filter(pk=made.pk).aupdate(asked_at=earlier)
        await eventually(lambda: answered(made) > first)
        await Controller.objects.filter(pk=made.pk).aupdate(asked_at=None)
        await eventually(lambda: Controller.objects.get(pk=made.pk).asked_at)
    assert await ControllerItem.objects.filter(kind="tunnel").acount() == 6


async def test_one_that_hangs_keeps_no_other_waiting(running, monkeypatch):
    monkeypatch.setattr(rest, "ANSWER_S", 120.0)
    with overlay() as slow:
        slow[0].manner.slow_s = 60.0
        hangs, other = await kept(slow, "Slow"), await kept(running, "Other")
        async with asking():
            await eventually(lambda: answered(other))
            assert await sync_to_async(answered)(hangs) is None


async def test_one_that_is_switched_off_is_not_asked(running):
    made = await kept(running)
    await Controller.objects.filter(pk=made.pk).aupdate(enabled=False)
    assert await sync_to_async(engine.due)(timezone.now()) == []


async def test_a_secret_that_cannot_be_read_is_told_and_nothing_is_asked(running, monkeypatch):
    made = await kept(running)

    def unseal(sealed):
        raise secrets.SecretUnreadable("This secret was encrypted with another key")

    monkeypatch.setattr("lumtar.domain.controllers.services.unseal", unseal)
    (wanted,) = await sync_to_async(engine.due)(timezone.now())
    answer = await engine.ask(wanted)
    assert answer.problem == "This secret was encrypted with another key" and not answer.lists
    await sync_to_async(answers.keep)(made.pk, answer, timezone.now())
    assert "another key" in (await Controller.objects.aget(pk=made.pk)).problem


async def test_some_lists_are_kept_where_others_cannot_be_read(running):
    broken = {**LISTS, "tunnel": LISTS["tunnel"].__class__("/api/nothing", "$[*]", dict(LISTS["tunnel"].fields))}
    wanted = engine.Due(1, running[1], SIGN_IN, SECRET, running[2], broken)
    answer = await engine.ask(wanted)
    assert answer.problem == "" and set(answer.lists) == {"device", "transport", "policy", "alarm"}
    assert answer.faults == {"tunnel": "it answers /api/nothing with status 404"}


async def test_all_of_it_has_to_be_there_in_time(running, monkeypatch):
    monkeypatch.setattr(engine, "PATIENCE_S", 0.4)
    running[0].manner.slow_s = 0.3
    answer = await engine.ask(engine.Due(1, running[1], SIGN_IN, SECRET, running[2], LISTS))
    assert answer.problem == "its lists were not there within 0 s"


async def test_a_failure_of_one_does_not_end_the_others(running, monkeypatch):
    made, real, calls = await kept(running), answers.keep, []

    def keep(pk, answer, now):
        calls.append(pk)
        if len(calls) == 1:
            raise OperationalError("the database was away a moment ago")
        if len(calls) == 2:
            raise ZeroDivisionError
        real(pk, answer, now)

    monkeypatch.setattr("lumtar.domain.controllers.answers.keep", keep)
    async with asking() as task:
        await eventually(lambda: answered(made))
        assert not task.done()
    assert len(calls) == 3


async def test_what_came_of_a_controller_that_was_deleted_meanwhile_is_left(running):
    made = await kept(running)
    (wanted,) = await sync_to_async(engine.due)(timezone.now())
    answer = await engine.ask(wanted)
    await sync_to_async(services.delete_controller)(made.pk, "anna")
    await sync_to_async(answers.keep)(made.pk, answer, timezone.now())
    assert not await ControllerItem.objects.aexists()


def tried(running, **more):
    asked = {
        "base": running[1], "sign_in": {name: getattr(SIGN_IN, name) for name in SignIn.__slots__}, "secret": SECRET, "authority": running[2],
        "lists": {name: {field: getattr(each, field) for field in each.__slots__} for name, each in LISTS.items()}, **more,
    }  # fmt: skip

    async def lines():
        return [line async for line in ERRANDS["controller"](asked)]

    return lines()


async def test_a_trial_has_a_line_for_each_list_with_its_first_rows(running):
    told = await tried(running)
    assert [(line["list"], line["count"]) for line in told] == [
        ("device", 5), ("transport", 6), ("tunnel", 6), ("policy", 3), ("alarm", 0),
    ]  # fmt: skip
    assert told[0]["rows"][0]["name"] == "cen-wan-1" and not any(line["wrong"] for line in told)


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"secret": {"user": USER, "password": f"{PASSWORD}x"}}, "refuses what was entered to sign in (status 401)"),
        ({"authority": ""}, "its certificate is not trusted"),
        ({"base": "https://127.0.250.8:9"}, "port 9 is closed"),
    ],
)
async def test_a_trial_that_gets_nowhere_says_why(running, more, words):
    (line,) = await tried(running, **more)
    assert (line["list"], line["count"]) == ("", 0) and words in line["wrong"][0]
    assert PASSWORD not in str(line)
