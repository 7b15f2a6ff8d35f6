"""Django's settings; everything that differs between installations comes from the environment."""

import hashlib
import os
from pathlib import Path
from secrets import token_urlsafe
from urllib.parse import unquote, urlsplit

from lumtar.domain.operation.secrets import keys

POOL = {"min_size": 2, "max_size": 12, "timeout": 2, "reconnect_timeout": 2}
"""The web server's connections; opening one costs more than most questions. A pool that tries for longer to reach a database
that is away tries less and less often, and answers late when it is back; given up soon, the next question tries anew."""

ROOT = Path(__file__).resolve().parents[3]
VAR = Path(os.environ.get("LUMTAR_VAR", ROOT / "var"))
DEMO = os.environ.get("LUMTAR_DEMO") == "1"


def database(url: str) -> dict[str, object]:
    """Django's description of a database from its address."""
    parts = urlsplit(url)
    pooled = bool(os.environ.get("LUMTAR_DATABASE_POOL"))
    # What a person was told is kept must be there after a crash of the database; jobs can be done again.
    of_the_web = {"pool": POOL, "options": "-c synchronous_commit=on"} if pooled else {}
    return {
        "ENGINE": "lumtar.server.database",
        "NAME": parts.path.lstrip("/") or "lumtar",
        "USER": unquote(parts.username or ""),
        "PASSWORD": unquote(parts.password or ""),
        "HOST": parts.hostname or "",
        "PORT": parts.port or "",
        "CONN_HEALTH_CHECKS": True,
        # The collector asks several times a second; a pool keeps its connections itself.
        "CONN_MAX_AGE": 0 if pooled else 60,
        "OPTIONS": {"connect_timeout": 5, **of_the_web},
    }


def secret() -> str:
    """Django's own secret, derived from the installation's key. Static checks need none."""
    try:
        return hashlib.sha256(b"django:" + keys()[0].encode()).hexdigest()
    except RuntimeError:
        # Static checks need none. Whoever signs with this one signs nothing that lasts, and nobody else knows it.
        return token_urlsafe(32)


SECRET_KEY = secret()
DEBUG = False
LISTENS_ON = os.environ.get("LUMTAR_WEB_HOST", "")
ALLOWED_HOSTS = [name for name in os.environ.get("LUMTAR_HOSTS", "127.0.0.1,localhost,[::1]").split(",") if name]
if LISTENS_ON and LISTENS_ON not in ("0.0.0.0", "::"):
    ALLOWED_HOSTS.append(f"[{LISTENS_ON}]" if ":" in LISTENS_ON else LISTENS_ON)
CSRF_TRUSTED_ORIGINS = [name for name in os.environ.get("LUMTAR_ORIGINS", "").split(",") if name]
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.postgres",
    "axes",
    "procrastinate.contrib.django",
    "lumtar.domain.operation",
    "lumtar.domain.audit",
    "lumtar.domain.accounts",
    "lumtar.domain.inventory",
    "lumtar.domain.topology",
    "lumtar.domain.readings",
    "lumtar.domain.flows",
    "lumtar.domain.paths",
    "lumtar.domain.controllers",
    "lumtar.domain.calling",
    "lumtar.domain.alarms",
    "lumtar.domain.logbook",
    "lumtar.domain.sweeps",
    "lumtar.server",
]
MIDDLEWARE = [
    "lumtar.server.guarding.Border",
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "axes.middleware.AxesMiddleware",
    "lumtar.server.guarding.Acting",
]
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AXES_FAILURE_LIMIT = 10
AXES_COOLOFF_TIME = 0.25
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
# Who asks is who is connected; a proxy that may speak for others is told to the web server alone (LUMTAR_PROXIES).
AXES_CLIENT_IP_CALLABLE = "lumtar.server.guarding.address_of"
AXES_LOCKOUT_CALLABLE = "lumtar.server.api.problems.locked_out"
AXES_VERBOSE = False
ROOT_URLCONF = "lumtar.server.urls"
TEMPLATES: list[dict[str, object]] = []
ASGI_APPLICATION = "lumtar.server.asgi.application"
DATABASES = {"default": database(os.environ.get("LUMTAR_DATABASE_URL", "postgresql://lumtar@127.0.0.1:8471/lumtar"))}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "lumtar.domain.accounts.passwords.NotRepeated"},
]
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 << 20
SESSION_COOKIE_NAME = "lumtar_session"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 86400
CSRF_COOKIE_NAME = "lumtar_csrf"
SECURE_REFERRER_POLICY = "same-origin"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'self'"],
        "style-src": ["'self'", "'unsafe-inline'"],
        "img-src": ["'self'", "data:"],
        "object-src": ["'none'"],
        "frame-ancestors": ["'none'"],
        "base-uri": ["'self'"],
    }
}
STATIC_URL = "/static/"
DIST = ROOT / "web" / "dist"
WHITENOISE_ROOT = DIST if DIST.is_dir() else None

_mail = urlsplit(os.environ.get("LUMTAR_MAIL_URL", "smtp://127.0.0.1:25"))
EMAIL_HOST = _mail.hostname or "127.0.0.1"
EMAIL_PORT = _mail.port or 25
EMAIL_HOST_USER = unquote(_mail.username or "")
EMAIL_HOST_PASSWORD = unquote(_mail.password or "")
EMAIL_USE_TLS = _mail.scheme == "smtp+starttls"
EMAIL_USE_SSL = _mail.scheme == "smtps"
EMAIL_TIMEOUT = 20
ADDRESS = os.environ.get("LUMTAR_ADDRESS", "").rstrip("/")
"""Where people open Lumtar, for the links in messages; empty leaves them out."""
GATHER_S = float(os.environ.get("LUMTAR_GATHER_S", "60"))
"""Seconds for which what follows a message to an address is gathered to the next one."""
DEFAULT_FROM_EMAIL = os.environ.get("LUMTAR_MAIL_FROM", "lumtar@localhost")

LOGGING_CONFIG = None
PROCRASTINATE_IMPORT_PATHS = [
    "lumtar.domain.alarms.jobs",
    "lumtar.domain.inventory.jobs",
    "lumtar.domain.readings.jobs",
    "lumtar.domain.reports.jobs",
    "lumtar.domain.topology.jobs",
    "lumtar.domain.flows.jobs",
    "lumtar.domain.paths.jobs",
    "lumtar.engine.sweeping",
]
