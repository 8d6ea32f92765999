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
ALLOWED_HOSTS = env.list("LUCID_RELIC_HOSTS", default=["127.0.0.1", "localhost", "[::1]", "testserver"])

INSTALLED_APPS = [
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
    "jobs",
    "live",
    "api",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "csp.middleware.CSPMiddleware",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "config.urls"
ASGI_APPLICATION = "config.asgi.application"
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]

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
DATA_UPLOAD_MAX_MEMORY_SIZE = 16 * 1024**2
FILE_UPLOAD_MAX_MEMORY_SIZE = 8 * 1024**2
(DATA / "uploads").mkdir(exist_ok=True)
FILE_UPLOAD_TEMP_DIR = DATA / "uploads"

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.SessionAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
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
}
JOB_LEASE_SECONDS = 15
JOB_ATTEMPTS = 3
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
