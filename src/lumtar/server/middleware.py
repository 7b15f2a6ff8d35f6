"""How a request passes through."""

from collections.abc import Callable

from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.utils.decorators import sync_only_middleware


@sync_only_middleware
def in_one_thread(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """Let everything before the view run in one thread of the request's own.

    Otherwise each hook of each middleware is a hop to a thread and back, and all of them cost more than the view.
    """
    return get_response
