"""The API under /api/v1, assembled."""

from django.conf import settings
from django.core.exceptions import ObjectDoesNotExist, RequestDataTooBig
from django.db import DataError, InterfaceError, OperationalError, ProgrammingError
from django.http import Http404, HttpRequest, HttpResponse
from ninja import NinjaAPI
from psycopg.errors import InsufficientPrivilege

from lumtar import __version__
from lumtar.domain.operation.editing import Stale
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.server.api import (
    access,
    actions,
    adding,
    admission,
    alarms,
    answers,
    auth,
    captures,
    catalogue,
    charts,
    contacts,
    controller_profiles,
    controllers,
    credentials,
    declared_fields,
    devices,
    exchange,
    expected,
    fleet,
    flow_records,
    forecasts,
    groups,
    impact,
    labels,
    links,
    lists,
    live,
    maintenance,
    map,
    messages,
    network_question,
    now,
    overlay,
    overview,
    parsing,
    path_courses,
    paths,
    people,
    plans,
    powered,
    problems,
    profiles,
    rehearsals,
    response_times,
    routes,
    rules,
    service_classes,
    sla,
    stations,
    storage,
    sweeps,
    system,
    totals,
    traffic,
    traffic_setup,
    watched,
    wireless,
)
from lumtar.server.limiting import TooOften

api = NinjaAPI(
    title="Lumtar",
    version=__version__,
    auth=[access.ByToken(access.ADMINISTRATOR.everywhere)],
    parser=parsing.Careful(),
    renderer=answers.Json(),
    urls_namespace="v1",
    docs_url=None,
    openapi_url="/openapi.json",
)
api.add_router("/session", auth.router)
api.add_router("", people.router)
api.add_router("", now.router)
api.add_router("", adding.router)
api.add_router("", lists.router)
api.add_router("", devices.router)
api.add_router("", fleet.router)
api.add_router("", charts.router)
api.add_router("", groups.router)
api.add_router("", live.router)
api.add_router("", totals.router)
api.add_router("", forecasts.router)
api.add_router("", storage.router)
api.add_router("", exchange.router)
api.add_router("", credentials.router)
api.add_router("", actions.router)
api.add_router("", catalogue.router)
api.add_router("", profiles.router)
api.add_router("", labels.router)
api.add_router("", sweeps.router)
api.add_router("", admission.router)
api.add_router("", alarms.router)
api.add_router("", rules.router)
api.add_router("", rehearsals.router)
api.add_router("", contacts.router)
api.add_router("", plans.router)
api.add_router("", messages.router)
api.add_router("", maintenance.router)
api.add_router("", expected.router)
api.add_router("", links.router)
api.add_router("", stations.router)
api.add_router("", wireless.router)
api.add_router("", traffic.router)
api.add_router("", flow_records.router)
api.add_router("", response_times.router)
api.add_router("", declared_fields.router)
api.add_router("", service_classes.router)
api.add_router("", sla.router)
api.add_router("", network_question.router)
api.add_router("", overlay.router)
api.add_router("", watched.router)
api.add_router("", captures.router)
api.add_router("", path_courses.router)
api.add_router("", paths.router)
api.add_router("", controller_profiles.router)
api.add_router("", controllers.router)
api.add_router("", traffic_setup.router)
api.add_router("", routes.router)
api.add_router("", powered.router)
api.add_router("", map.router)
api.add_router("", impact.router)
api.add_router("", overview.router)
api.add_router("", system.router)
problems.install(api)


@api.exception_handler(Http404)
@api.exception_handler(ObjectDoesNotExist)
def _missing(request: HttpRequest, error: Exception) -> HttpResponse:
    return problems.problem(404, "There is nothing with that number.")


@api.exception_handler(Stale)
def _stale(request: HttpRequest, error: Stale) -> HttpResponse:
    return problems.problem(409, str(error))


@api.exception_handler(SecretUnreadable)
def _unreadable(request: HttpRequest, error: SecretUnreadable) -> HttpResponse:
    return problems.problem(409, str(error))


@api.exception_handler(RequestDataTooBig)
def _too_big(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
    most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE >> 20
    return problems.problem(413, f"That is too much at once: at most {most} MiB are taken.")


@api.exception_handler(TooOften)
def _too_often(request: HttpRequest, error: TooOften) -> HttpResponse:
    answer = problems.problem(429, str(error))
    answer.headers["Retry-After"] = str(error.after_s)
    return answer


@api.exception_handler(DataError)
@api.exception_handler(OverflowError)
def _beyond(request: HttpRequest, error: Exception) -> HttpResponse:
    problems.log.warning("a value beyond what can be stored", path=request.path, error=str(error))
    return problems.problem(422, "A value is larger or longer than what can be stored.")


@api.exception_handler(ProgrammingError)
def _refused(request: HttpRequest, error: ProgrammingError) -> HttpResponse:
    if not isinstance(error.__cause__, InsufficientPrivilege):
        raise error
    problems.log.warning("closed to those who are limited to a part", path=request.path, error=str(error))
    return problems.problem(403, "This concerns the whole network, and you are limited to a part of it.")


@api.exception_handler(OperationalError)
@api.exception_handler(InterfaceError)
def _away(request: HttpRequest, error: Exception) -> HttpResponse:
    problems.log.warning("database away", error=str(error))
    return problems.problem(503, "The database cannot be reached. Readings wait in the collector until it is back.")
