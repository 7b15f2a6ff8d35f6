"""A set-up as YAML: written, and taken back with a dry run that shows the difference."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import yaml
from django.db import transaction

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.jobs import label_all
from lumtar.domain.setup.section import Plain, Section
from lumtar.domain.setup.sections import sections

FORM = 1
"""Of the text; a later one says so in its first line."""


@dataclass(frozen=True, slots=True)
class Change:
    """One entry that is new, or one field of an entry that changes."""

    section: str
    name: str
    words: str


@dataclass(slots=True)
class Applied:
    """What taking a set-up changed (or would), and what of it cannot be taken, and why."""

    changes: list[Change] = field(default_factory=list)
    problems: list[Change] = field(default_factory=list)


class _Undone(Exception):
    """Ends a transaction that is not to be kept."""


def written() -> str:
    """The whole set-up as YAML. It holds no secrets."""
    document: dict[str, Any] = {"lumtar": FORM}
    for section in sections():
        document[section.key] = [_brief(section, entry) for entry in section.read()]
    text: str = yaml.safe_dump(document, sort_keys=False, allow_unicode=True, width=110)
    return text


def _brief(section: Section, entry: Plain) -> Plain:
    """An entry without what it has in common with every other one."""
    return {key: _listed(value) for key, value in entry.items() if key == "name" or value != section.blank[key]}


def _listed(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def understand(text: str) -> dict[str, list[Plain]]:
    """The sections of a text.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it, with the line if it is no YAML
    """
    try:
        document = yaml.safe_load(text)
    except yaml.MarkedYAMLError as error:
        line = f" in line {error.problem_mark.line + 1}" if error.problem_mark else ""
        raise Refusal(f"Invalid YAML: {error.problem}{line}.") from error
    except yaml.YAMLError as error:
        raise Refusal(f"Invalid YAML: {error}.") from error
    if not isinstance(document, Mapping):
        raise Refusal("A set-up has sections: " + ", ".join(section.key for section in sections()) + ".")
    known = {section.key for section in sections()}
    former = {section.former_key: section.key for section in sections() if section.former_key}
    document = {former.get(key, key): value for key, value in document.items()}
    if unknown := sorted(str(key) for key in document if key not in known and key != "lumtar"):
        raise Refusal(f"There is no section {unknown[0]!r}; there are {', '.join(sorted(known))}.")
    if document.get("lumtar", FORM) != FORM:
        raise Refusal(f"This set-up is of form {document['lumtar']}; form {FORM} is understood here.")
    for key in known & set(document):
        entries = document[key] or []
        if not isinstance(entries, list) or not all(isinstance(each, Mapping) and each.get("name") for each in entries):
            raise Refusal(f"{key} is a list of entries with a name each.")
    return {key: [dict(each) for each in document[key] or []] for key in known & set(document)}


def apply(text: str, by: str, dry_run: bool = False, for_all: bool = False) -> Applied:
    """Take a set-up over. What it does not name stays; with one problem nothing of it is taken.

    Parameters
    ----------
    dry_run : do everything, say what changed, and take it back
    for_all : changed profiles hold for the devices that have them, not only for later ones

    Raises
    ------
    Refusal
        if the text is not understood
    """
    wanted = understand(text)
    applied = Applied()
    try:
        with transaction.atomic():
            for section in sections(for_all):
                if section.key in wanted:
                    _take(section, wanted[section.key], by, applied)
            if dry_run or applied.problems:
                raise _Undone
            if any(change.section == "label_rules" for change in applied.changes):
                label_all.defer()
    except _Undone:
        if applied.problems:
            applied.changes.clear()
    return applied


def _take(section: Section, entries: list[Plain], by: str, applied: Applied) -> None:
    before = section.read()
    known = {entry["name"]: entry for entry in before}
    for entry in entries:
        name = str(entry["name"])
        try:
            entry = section.upgraded(entry, by)
            now = known.get(name)
            wanted = _whole(section, entry, now)
            if wanted == now:
                continue
            with transaction.atomic():
                section.keep(wanted, now is None, by)
        except (ValueError, TypeError) as error:
            applied.problems.append(Change(section.key, name, str(error)))
            continue
        applied.changes += _differences(section, name, now, wanted)
    section.order([str(entry["name"]) for entry in entries])
    names = [entry["name"] for entry in section.read() if entry["name"] in known]
    if names != [entry["name"] for entry in before]:
        applied.changes.append(Change(section.key, "their order", ", ".join(names)))


def _whole(section: Section, entry: Plain, now: Plain | None) -> Plain:
    """An entry with what it leaves out: as it is, or as a blank one has it."""
    if unknown := sorted(str(key) for key in entry if key != "name" and key not in section.blank):
        raise Refusal(f"It has no field {unknown[0]!r}; there are {', '.join(section.blank) or 'none'}.")
    for key, value in entry.items():
        usual = section.blank.get(key)
        if isinstance(usual, str | list | dict | tuple) and not isinstance(
            value, list if isinstance(usual, tuple) else type(usual)
        ):
            kind = (
                "text"
                if isinstance(usual, str)
                else "a list"
                if isinstance(usual, list | tuple)
                else "names with values"
            )
            raise Refusal(f"Its {key} is {kind}, not {value!r}.")
    blank = {key: _listed(value) for key, value in section.blank.items()}
    return {**blank, **{key: _listed(value) for key, value in (now or {}).items()}, **entry, "name": str(entry["name"])}


def _differences(section: Section, name: str, now: Plain | None, wanted: Plain) -> list[Change]:
    if now is None:
        return [Change(section.key, name, "is new")]
    return [
        Change(section.key, name, f"{key}: {value!r}, was {now[key]!r}")
        for key, value in wanted.items()
        if value != _listed(now[key])
    ]
