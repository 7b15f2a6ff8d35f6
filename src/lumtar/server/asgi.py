"""ASGI entry point."""

import os

from django.core.asgi import get_asgi_application

from lumtar.engine import logs

logs.configure()
os.environ.setdefault("LUMTAR_DATABASE_POOL", "1")
application = get_asgi_application()
