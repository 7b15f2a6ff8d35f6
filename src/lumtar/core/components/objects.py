"""Objects of a profile: each is read by an identifier of its own."""

from lumtar.core.components.registry import ComponentKind, register

register(ComponentKind("object", "object of a profile", None, (), lambda rows: [], is_read_often=True))
