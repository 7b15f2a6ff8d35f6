"""ASGI entry point."""

import gc
import os

import django

from lumtar.engine import logs

logs.configure()
os.environ.setdefault("LUMTAR_DATABASE_POOL", "1")
django.setup(set_prefix=False)

from lumtar.server.handler import Handler  # noqa: E402

application = Handler()
# What is loaded now stays: looking through it again and again would hold requests up for tens of milliseconds.
gc.collect()
gc.freeze()
