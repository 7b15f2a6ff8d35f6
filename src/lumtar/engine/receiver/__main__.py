"""Run the receiver: ``python -m lumtar.engine.receiver``."""

import django

from lumtar.engine import logs

logs.configure()
django.setup()

from lumtar.engine.receiver.receiver import Receiver  # noqa: E402
from lumtar.engine.service import run  # noqa: E402

run(Receiver)
