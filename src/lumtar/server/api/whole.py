"""Answers that are made of what can be told."""

from pydantic import ConfigDict

WHOLE = ConfigDict(json_schema_serialization_defaults_required=True)
"""For an answer that inherits the fields of what can be told: there they may be left out, here they are always."""
