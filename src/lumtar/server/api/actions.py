"""What can be done to a port: switched off and on, its power, its description; and whether that is allowed at all."""

import asyncio
from datetime import datetime
from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field

from lumtar.core.actions import ACTIONS, check_reason, check_text
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import polling, writing
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.services import note_action
from lumtar.server.api.access import ADMINISTRATOR, ENGINEER, Router
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["actions"])


class WritingOut(Schema):
    """Whether Lumtar may change anything on devices. It may not until an administrator allows it."""

    is_allowed: bool
    changed_at: datetime | None
    changed_by: str


class WritingIn(Schema):
    """Whether it may from now on."""

    is_allowed: bool


def _writing() -> WritingOut:
    row = writing.state()
    return WritingOut(is_allowed=row.is_allowed, changed_at=row.changed_at, changed_by=row.changed_by)


@router.get("/writing", needs=ENGINEER.everywhere, response=WritingOut)
def is_writing_allowed(request: HttpRequest) -> WritingOut:
    """Whether Lumtar may change anything on devices."""
    return _writing()


@router.put("/writing", needs=ADMINISTRATOR.everywhere, response=WritingOut)
def allow_writing(request: HttpRequest, body: WritingIn) -> WritingOut:
    """Allow writing to devices, or make Lumtar read-only again."""
    writing.allow(is_allowed=body.is_allowed, by=request.user.get_username())
    return _writing()


class PortActionOut(Schema):
    """An action: its name, what a person chooses, and whether it needs a text."""

    name: str
    words: str
    has_text: bool


class PortActionsOut(Schema):
    """The actions of a port, and why none of them can be done now; empty if they can."""

    rows: list[PortActionOut]
    refused: str


@router.get("/interfaces/{int:interface}/actions", needs=ENGINEER.everywhere, response=PortActionsOut)
def list_actions(request: HttpRequest, interface: int) -> PortActionsOut:
    """What can be done to a port."""
    port = get_object_or_404(Interface, pk=interface)
    known = writing.actions_of(port)
    refused = ""
    try:
        for each in known[:1]:
            writing.target(port, each)
    except Refusal as refusal:
        refused = str(refusal)
    rows = [PortActionOut(name=each.name, words=each.words, has_text=each.value is None) for each in known]
    return PortActionsOut(rows=rows, refused=refused)


class PortActionIn(Schema):
    """What is to be done, and why; the text is that of a description."""

    action: str
    reason: str = Field(max_length=1000)
    text: str = Field("", max_length=1000)


class DoneOut(Schema):
    """What became of it: the object's value before and after, as the device tells; ``is_done`` if it is as wanted."""

    is_done: bool
    words: str
    before: str
    after: str


@router.post("/interfaces/{int:interface}/actions", needs=ENGINEER.everywhere, response=DoneOut)
def act(request: HttpRequest, interface: int, body: PortActionIn) -> DoneOut:
    """Do something to a port. The result is what the device says when it is read back."""
    port, by = get_object_or_404(Interface, pk=interface), request.user.get_username()
    with refusing():
        if body.action not in ACTIONS:
            raise Refusal(f"There is no action {body.action}; there are {', '.join(ACTIONS)}.", "action")
        action, reason = ACTIONS[body.action], check_reason(body.reason)
        text = check_text(action, body.text)
    with refusing(409):
        to = writing.target(port, action)
    wanted = text if action.value is None else action.value
    done = _set(to, wanted)
    before, after = (
        action.shown(value.encode() if isinstance(value, str) else value) for value in (done["before"], done["after"])
    )
    if done["is_set"]:
        words = f"{action.object} is {after or 'empty'} now, read back from the device; it was {before or 'empty'}."
    elif done["fault"]:
        words = f"{to.device.name}: {done['fault']}."
    else:
        words = f"{to.device.name} answered, but {action.object} is {after} still."
    writing.note(port, action, action.done if done["is_set"] else f"{action.words}: {words}", reason, by)
    if to.device.enabled:
        polling.ask(to.device.pk, by)
    return DoneOut(is_done=done["is_set"], words=words, before=before, after=after)


def _set(to: writing.Target, wanted: int | str, *, is_read: bool = True) -> dict[str, Any]:
    """Have an object set by a collector; whatever comes of it is an outcome, so that it is written down."""
    asked = {
        "address": to.device.address, "port": to.device.port, "credentials": [each.pk for each in to.credentials],
        "oid": to.oid, "wanted": wanted, "is_read": is_read,
    }  # fmt: skip

    async def first() -> dict[str, Any]:
        async for line in done_by_a_collector("set", asked):
            return line
        fault = "the collector ended while it was at it; look at the device before you try again"
        return {"is_set": False, "fault": fault, "before": None, "after": None}

    return asyncio.run(first())


class RestartIn(Schema):
    """Why a device is restarted."""

    reason: str = Field(max_length=1000)


class RestartOut(Schema):
    """Whether a device can be restarted, and why not now; empty if it can."""

    is_there: bool
    refused: str


@router.get("/devices/{int:device}/restart", needs=ENGINEER.everywhere, response=RestartOut)
def can_be_restarted(request: HttpRequest, device: int) -> RestartOut:
    """Whether a device can be restarted: its profile has to say how."""
    found = get_object_or_404(Device.objects.select_related("profile", "site"), pk=device)
    restart, refused = writing.restart_of(found), ""
    if restart is not None:
        try:
            writing.restart_target(found, restart)
        except Refusal as refusal:
            refused = str(refusal)
    return RestartOut(is_there=restart is not None, refused=refused)


@router.post("/devices/{int:device}/restart", needs=ENGINEER.everywhere, response=DoneOut)
def restart(request: HttpRequest, device: int, body: RestartIn) -> DoneOut:
    """Restart a device, as its profile says. It answers nothing for a while, so nothing is read back; its next polls show it."""
    found = get_object_or_404(Device.objects.select_related("profile", "site"), pk=device, retired_at=None)
    with refusing():
        reason = check_reason(body.reason)
        how = writing.restart_of(found)
        if how is None:
            raise Refusal(f"The profile of {found.name} does not say how it is restarted.")
    with refusing(409):
        to = writing.restart_target(found, how)
    done = _set(to, how.value, is_read=False)
    words = f"{found.name} was told to restart." if done["is_set"] else f"{found.name}: {done['fault']}."
    note_action(
        f"{found.name}: {'restart' if done['is_set'] else words} ({reason})", request.user.get_username(), found
    )
    return DoneOut(is_done=done["is_set"], words=words, before="", after="")
