"""Settings, URLs, ASGI, the API's root and the event stream."""
