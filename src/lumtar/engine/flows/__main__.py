"""Run the flow receiver: ``python -m lumtar.engine.flows``."""

import django

from lumtar.engine import logs

logs.configure()
django.setup()

from lumtar.engine.flows.flow_receiver import FlowReceiver  # noqa: E402
from lumtar.engine.service import run  # noqa: E402

run(FlowReceiver)
