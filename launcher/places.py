"""Where things are and which ports are used; every value can be set by an environment variable."""

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
VAR = Path(os.environ.get("LUMTAR_VAR", ROOT / "var")).resolve()
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
WEB = ROOT / "web"
LOGS = VAR / "log"
STATE = VAR / "run.json"


def port(name: str, default: int) -> int:
    """The port set by ``LUMTAR_<name>_PORT``."""
    text = os.environ.get(f"LUMTAR_{name}_PORT", str(default))
    if not text.isdigit() or not 0 < int(text) < 65536:
        raise SystemExit(f"lumtar: LUMTAR_{name}_PORT is {text!r}, which is not a port (1 to 65535)")
    return int(text)


WEB_HOST = os.environ.get("LUMTAR_WEB_HOST", "127.0.0.1")
WEB_PORT = port("WEB", 8470)
DATABASE_PORT = port("DATABASE", 8471)
LAB_PORT = port("LAB", 8472)
MAIL_PORT = port("MAIL", 8473)
ADDRESS = f"http://{WEB_HOST}:{WEB_PORT}"
