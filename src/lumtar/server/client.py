"""The typed client of the front end, generated from the API's own description."""

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import django

WEB = Path(__file__).resolve().parents[3] / "web"
CLIENT = WEB / "src" / "api" / "schema.d.ts"

TYPES = [str(WEB / "node_modules" / ".bin" / "openapi-typescript"), "--default-non-nullable=false"]
"""A field with a default may be left out of a request."""


def description() -> str:
    """The OpenAPI document."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "lumtar.server.settings")
    django.setup()
    from lumtar.server.api.root import api

    return json.dumps(api.get_openapi_schema(path_prefix="/api/v1/"))


def generate(target: Path) -> None:
    """Write the client's types."""
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "openapi.json"
        source.write_text(description())
        subprocess.run([*TYPES, str(source), "-o", str(target)], cwd=WEB, check=True, capture_output=True)


def main(words: list[str]) -> int:
    """Write the client, or with ``--check`` say whether it is current."""
    if "--check" not in words:
        generate(CLIENT)
        return 0
    with tempfile.TemporaryDirectory() as folder:
        fresh = Path(folder) / "schema.d.ts"
        generate(fresh)
        if CLIENT.exists() and fresh.read_text() == CLIENT.read_text():
            return 0
    print("web/src/api/schema.d.ts is not what the API says; run .venv/bin/python -m lumtar.server.client")
    return 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
