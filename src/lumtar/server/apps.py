"""The application's registration."""

from django.apps import AppConfig


class Server(AppConfig):
    """Settings, URLs, ASGI, the API's root and the event stream."""

    name = "lumtar.server"
