"""What others do when a device is retired or restored: apps above this one connect to it.

Both are sent within the transaction, with ``device`` (its number) and ``at``.
"""

from django.dispatch import Signal

retired = Signal()
restored = Signal()
