"""Jobs: labelling ports anew."""

import structlog
from procrastinate.contrib.django import app

from lumtar.domain.inventory.labelling import label_ports

log = structlog.get_logger()


@app.task(queue="inventory", pass_context=False)
def label_all() -> None:
    """Decide anew what every port is called and is for."""
    looked, changed = label_ports()
    log.info("labelled", ports=looked, changed=changed)
