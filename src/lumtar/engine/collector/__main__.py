"""Run the collector: ``python -m lumtar.engine.collector``."""

import django

from lumtar.engine import logs

logs.configure()
django.setup()

from lumtar.engine.collector.collector import Collector  # noqa: E402
from lumtar.engine.service import run  # noqa: E402

run(Collector)
