"""Settings of the app. Everything the artist makes lives in one folder: KEEN_DATA, by default ``var`` beside the code."""

import ipaddress
import os
import secrets
import tempfile
from pathlib import Path

BASE_DIR = Path(__file__).resolve().parent.parent.parent
DATA_DIR = Path(os.environ.get("KEEN_DATA", BASE_DIR / "var"))
# What an artist makes is theirs alone.
os.umask(0o077)


def _checked_folder(folder):
    """The folder for all data, made and closed to others. Ends with a word where that cannot be."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o700)
        with tempfile.TemporaryFile(dir=folder):
            return folder
    except OSError as error:
        raise SystemExit(f"Keen Quiver needs a folder that it can write to for its data, “{folder}” is none: {error.strerror}") from error


_checked_folder(DATA_DIR)


def _kept_secret():
    """A secret made once and kept beside the data."""
    path = DATA_DIR / "secret_key"
    try:
        with path.open("x") as file:
            os.chmod(path, 0o600)
            file.write(secrets.token_urlsafe(50))
    except FileExistsError:
        pass
    return path.read_text()


SECRET_KEY = _kept_secret()
DEBUG = False


def _address(name, default):
    """An IP address of the environment, as a text."""
    sent = os.environ.get(name) or default
    try:
        return str(ipaddress.ip_address(sent)) if sent else ""
    except ValueError:
        raise SystemExit(f"{name}: expected an IP address such as 127.0.0.1 or 0.0.0.0, got “{sent}”") from None


LISTEN, PROXY = _address("KEEN_LISTEN", "127.0.0.1"), _address("KEEN_PROXY", "")
"""The address that the app listens on, and that of a proxy before it which speaks TLS to the outside and says for whom it asks."""
ACCOUNTS = bool(PROXY) or not ipaddress.ip_address(LISTEN).is_loopback
"""Whether one has to log in: as soon as anybody else can reach the app."""
NAMES = os.environ.get("KEEN_HOSTS", "").replace(",", " ").split()
"""What others call this machine in addresses."""
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", f"[{LISTEN}]" if ":" in LISTEN else LISTEN, *NAMES]
INSTALLED_APPS = [
    # Before staticfiles: its runserver takes the place of that one.
    "studio.jobs",
    "django.contrib.staticfiles",
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "django.contrib.sessions",
    "django_htmx",
    "studio.events",
    "studio.characters",
    "studio.accounts",
    "studio.edits",
    "studio.rig",
    "studio.regions",
    "studio.motion",
    "studio.contacts",
    "studio.takes",
    "studio.bakes",
    "studio.poke",
]
MIDDLEWARE = [
    "studio.config.security.LoopbackMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "studio.config.security.ContentSecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "studio.accounts.gate.LoginMiddleware",
    "studio.accounts.gate.RightsMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "studio.config.errors.PlainErrorMiddleware",
]
ROOT_URLCONF = "studio.config.urls"
ASGI_APPLICATION = "studio.config.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE_DIR / "studio" / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {"context_processors": ["django.template.context_processors.request", "studio.accounts.gate.who"]},
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_DIR / "quiver.sqlite3",
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA auto_vacuum=INCREMENTAL; PRAGMA journal_mode=WAL; PRAGMA journal_size_limit=16777216;"
            "PRAGMA synchronous=NORMAL; PRAGMA foreign_keys=ON;",
        },
        # Tests drive a real server and a real worker, which must see the same file.
        "TEST": {"NAME": DATA_DIR / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
CLUSTER = os.environ.get("KEEN_CLUSTER", "")
"""Where takes are made: tcp://… of a Dask scheduler, or how many workers to start here; by default in the one worker process."""
RESULTS_BYTES = int(os.environ.get("KEEN_RESULTS_MB", "1024")) * 2**20
"""What the worker keeps of earlier runs, to use it again."""
LOGIN_URL, LOGIN_REDIRECT_URL, LOGOUT_REDIRECT_URL = "login", "library", "login"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"django.contrib.auth.password_validation.{name}Validator"}
    for name in ("UserAttributeSimilarity", "MinimumLength", "CommonPassword", "NumericPassword")
]
# Counts of tries to log in; nobody can push them out by making others.
CACHES = {"default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache", "OPTIONS": {"MAX_ENTRIES": 100_000}}}
TEST_RUNNER = "tests.runner.CountingRunner"
LANGUAGE_CODE, USE_I18N, USE_TZ, TIME_ZONE = "en", False, True, "UTC"
STATIC_URL = "/static/"
STATICFILES_DIRS = [BASE_DIR / "studio" / "static"]
WHITENOISE_USE_FINDERS = True
WHITENOISE_ALLOW_ALL_ORIGINS = False
CSRF_COOKIE_HTTPONLY = False
CSRF_COOKIE_SAMESITE = SESSION_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_SECURE = SESSION_COOKIE_SECURE = bool(PROXY)
SECURE_CONTENT_TYPE_NOSNIFF = True
LARGEST_UPLOAD = 256 * 2**20
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 * 2**20
FILE_UPLOAD_MAX_MEMORY_SIZE = 2**20
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    # What was refused was told to the artist; the log is for faults of the program.
    "loggers": {"django.request": {"level": "ERROR"}, "django.security": {"level": "CRITICAL"}},
}
