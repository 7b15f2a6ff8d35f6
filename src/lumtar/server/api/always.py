"""Answers that have all their fields."""

from pydantic import ConfigDict

ALWAYS = ConfigDict(json_schema_serialization_defaults_required=True)
"""For an answer that inherits the fields of a request: there they may be left out, in the answer they always stand."""
