"""Settings of the Django project; everything that differs between places comes from the environment."""

import hashlib
import os
import tempfile
from pathlib import Path

import environ
from csp.constants import NONCE, SELF
from django.core.management.utils import get_random_secret_key

env = environ.Env()
ROOT = Path(__file__).resolve().parents[2]
DATA = Path(env("LUCID_RELIC_DATA", default=str(ROOT / "data")))
DATA.mkdir(parents=True, exist_ok=True)
WEB_DIST = Path(env("LUCID_RELIC_WEB", default=str(ROOT / "web" / "dist")))


def _secret() -> str:
    """A secret of this installation, made once and kept in the data folder."""
    path = DATA / "secret.key"
    if not path.exists():
        path.write_text(get_random_secret_key())
        path.chmod(0o600)
    return path.read_text()


def _live_socket() -> Path:
    """Where the live service listens: in the data folder, or, when that path is too long for a socket, a private folder."""
    path = DATA / "live.sock"
    if len(os.fsencode(path)) <= 100:
        return path
    name = hashlib.blake2b(os.fsencode(DATA), digest_size=8).hexdigest()
    folder = Path(tempfile.gettempdir()) / f"lucid-relic-{os.getuid()}"
    folder.mkdir(mode=0o700, exist_ok=True)
    return folder / f"{name}.sock"


LIVE_SOCKET = Path(env("LUCID_RELIC_LIVE_SOCKET", default="") or _live_socket())
LIVE_MEMORY_BYTES = env.int("LUCID_RELIC_LIVE_MEMORY_MB", default=1024) * 2**20
SECRET_KEY = env("LUCID_RELIC_SECRET", default="") or _secret()
DEBUG = False
DEMO = env.bool("LUCID_RELIC_DEMO", default=False)
LOOPBACK = ["127.0.0.1", "localhost", "[::1]", "testserver"]
ALLOWED_HOSTS = [*env.list("LUCID_RELIC_HOSTS", default=[]), *LOOPBACK]
BEHIND_PROXY = env.bool("LUCID_RELIC_PROXY", default=False)  # on this computer, which says who asks and whether by TLS
TLS = env.bool("LUCID_RELIC_TLS", default=False)  # people reach the installation by https alone

INSTALLED_APPS = [
    "django.contrib.admin",
    "django.contrib.messages",
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "drf_spectacular",
    "django_tasks",
    "django_tasks_db",
    "csp",
    "axes",
    "channels",
    "config",
    "accounts",
    "objects",
    "instruments",
    "jobs",
    "operating",
    "live",
    "api",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "api.errors.JsonEverywhere",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "csp.middleware.CSPMiddleware",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "config.urls"
ASGI_APPLICATION = "config.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [ROOT / "server" / "config" / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ]
        },
    }
]
MESSAGE_STORAGE = "django.contrib.messages.storage.session.SessionStorage"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": env("LUCID_RELIC_TEST_DATABASE", default=str(DATA / "lucid-relic.sqlite3")),
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
        "TEST": {"NAME": str(DATA / "test.sqlite3")},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend"}}

AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = 0.25
AXES_LOCKOUT_CALLABLE = "accounts.services.locked_out"
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [SELF],
        "script-src": [SELF, NONCE, "'wasm-unsafe-eval'"],
        "style-src": [SELF, NONCE],
        "style-src-attr": ["'unsafe-inline'"],
        "img-src": [SELF, "blob:", "data:"],
        "connect-src": [SELF, "blob:"],
        "worker-src": [SELF, "blob:"],
        "font-src": [SELF],
        "object-src": ["'none'"],
        "base-uri": ["'none'"],
        "form-action": [SELF],
        "frame-ancestors": ["'none'"],
    }
}
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE_SSL_REDIRECT = TLS
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if TLS else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = TLS
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https") if BEHIND_PROXY else None
SECURE_REDIRECT_EXEMPT = [r"^api/health$"]  # asked on this computer, past the proxy
CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS if host not in LOOPBACK] if TLS else []
SESSION_COOKIE_AGE = 14 * 24 * 3600
X_FRAME_OPTIONS = "DENY"

LANGUAGE_CODE = "en-gb"
TIME_ZONE = "UTC"
USE_TZ = True
STATIC_URL = "/static/"
STATICFILES_DIRS = [WEB_DIST] if WEB_DIST.is_dir() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_ALLOW_ALL_ORIGINS = False
WHITENOISE_AUTOREFRESH = False

MAX_UPLOAD_BYTES = 8 * 1024**3
PIECE_BYTES = 8 * 1024**2  # of a file that is sent in pieces: what is lost when one breaks off
DATA_UPLOAD_MAX_MEMORY_SIZE = 3 * 1024**2
FILE_UPLOAD_MAX_MEMORY_SIZE = 1024**2
QUOTA_GB = env.float("LUCID_RELIC_QUOTA_GB", default=0.0)  # of a person's objects; 0 is no limit
KEEP_UNDONE_DAYS = env.float("LUCID_RELIC_KEEP_UNDONE_DAYS", default=30.0)
KEEP_DELETED_DAYS = env.float(
    "LUCID_RELIC_KEEP_DELETED_DAYS", default=30.0
)  # that an object thrown away can be taken back
CACHE_BYTES = env.int("LUCID_RELIC_CACHE_MB", default=4096) * 2**20
COLLECT_HOURS = env.float("LUCID_RELIC_COLLECT_HOURS", default=6.0)  # between two collections; 0 is never by itself
(DATA / "uploads").mkdir(exist_ok=True)
FILE_UPLOAD_TEMP_DIR = DATA / "uploads"

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["api.people.Sessions"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_PARSER_CLASSES": ["api.reading.BoundedJSON"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "api.errors.answer",
    "UNAUTHENTICATED_USER": "django.contrib.auth.models.AnonymousUser",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Lucid Relic",
    "VERSION": "1",
    "SERVE_INCLUDE_SCHEMA": False,
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {"RoleEnum": "api.shapes.shelf.ROLES", "ShareRoleEnum": "objects.models.Share.Role"},
    "PATH_CONVERTER_OVERRIDES": {
        "count": {"type": "integer", "minimum": 0, "maximum": 999_999_999},
        "job_action": {"type": "string", "enum": ["cancel", "finish", "again", "pause", "go_on", "step_back", "shoot"]},
        "stand_act": {"type": "string", "enum": ["connect", "disconnect", "provoke", "ask", "hand_over", "keep"]},
    },
    "POSTPROCESSING_HOOKS": ["drf_spectacular.hooks.postprocess_schema_enums", "api.schema.complete"],
}
JOB_LEASE_SECONDS = 15
JOB_ATTEMPTS = 3
WORKERS = env.int("LUCID_RELIC_WORKERS", default=2)
MEMORY_RESERVE_MB = env.int("LUCID_RELIC_MEMORY_RESERVE_MB", default=1024)  # that no job may be begun into
WEB_PROCESSES = env.int("LUCID_RELIC_WEB_PROCESSES", default=2)
ROOM_RESERVE_BYTES = env.int("LUCID_RELIC_RESERVE_MB", default=512) * 2**20  # that no work may touch
ROOM_BALLAST_BYTES = env.int("LUCID_RELIC_BALLAST_MB", default=32) * 2**20
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
