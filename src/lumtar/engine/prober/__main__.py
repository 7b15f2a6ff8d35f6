"""Run a prober: ``python -m lumtar.engine.prober``."""

import django

from lumtar.engine import logs

logs.configure()
django.setup()

from lumtar.engine.prober.prober import Prober  # noqa: E402
from lumtar.engine.service import run  # noqa: E402

run(Prober)
