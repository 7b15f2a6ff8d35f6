"""URLs: the API, the event stream, and the application for everything else."""

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponseBase
from django.urls import path, re_path

from lumtar.server import events
from lumtar.server.api.problems import problem
from lumtar.server.api.root import api


def application(request: HttpRequest) -> HttpResponseBase:
    """The front end; which view it shows is its own business."""
    index = settings.DIST / "index.html"
    if not index.exists():
        return problem(503, "The front end is not built yet: run ./lumtar start.")
    answer = FileResponse(index.open("rb"), content_type="text/html; charset=utf-8")
    answer["Cache-Control"] = "no-cache"
    return answer


def unknown(request: HttpRequest) -> HttpResponseBase:
    """An address under /api/ that is none."""
    return problem(404, "There is no such call; /api/v1/openapi.json lists them.")


urlpatterns = [
    path("api/v1/events", events.stream),
    path("api/v1/", api.urls),
    re_path(r"^api/", unknown),
    re_path(r"^(?!static/|assets/).*$", application),
]
