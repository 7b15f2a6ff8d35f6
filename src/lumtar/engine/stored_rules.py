"""Rules over what is stored, for subjects that no poll knows as a whole: groups, links, bridges."""

from collections.abc import Sequence
from datetime import datetime

from lumtar.domain.alarms import memory
from lumtar.domain.alarms.memory import NO_DEVICE
from lumtar.domain.alarms.models import Alarm, Rule
from lumtar.engine.batch import Batch
from lumtar.engine.watching import Scopes, Watch


def brought_back(kind: str, rules: Sequence[Rule], scopes: Scopes, subjects: Sequence[int], since: datetime) -> Watch:
    """Rules, with what they remember of subjects of one kind from the last look."""
    watch = Watch()
    watch.renew(rules, scopes)
    rows = Alarm.objects.filter(resource_kind=kind, is_cleared=False).exclude(rule=None)
    active = list(rows.values_list("rule_id", "resource_id", "severity"))
    owners = dict.fromkeys(subjects, NO_DEVICE)
    watch.bring_back(kind, memory.load(kind, [NO_DEVICE]), active, dict.fromkeys(subjects, since.timestamp()), owners)
    return watch


def keep_memory(batch: Batch) -> None:
    """Write down what the rules remember, in the transaction of the alarms that they raised."""
    for kind, pairs in batch.memory.items():
        memory.keep(kind, pairs)
