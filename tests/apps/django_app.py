"""A Django app with its host check on: `python django_app.py PORT HOST`."""

import sys

from django.conf import settings

port, host = sys.argv[1:3]
settings.configure(
    ALLOWED_HOSTS=[host],
    ROOT_URLCONF=__name__,
    SECRET_KEY="made up",
    MIDDLEWARE=[
        "django.middleware.common.CommonMiddleware",
        "django.middleware.csrf.CsrfViewMiddleware",
    ],
    SECURE_PROXY_SSL_HEADER=("HTTP_X_FORWARDED_PROTO", "https"),
    CSRF_COOKIE_SECURE=True,
)

from django.core.management import execute_from_command_line  # noqa: E402
from django.http import HttpResponse, HttpResponseRedirect  # noqa: E402
from django.middleware.csrf import get_token  # noqa: E402
from django.urls import path  # noqa: E402


def home(request):
    if request.method == "POST":
        return HttpResponse("taken")
    return HttpResponse(f"{request.build_absolute_uri()} {get_token(request)}")


def old(request):
    return HttpResponseRedirect(request.build_absolute_uri("/"))


urlpatterns = [path("", home), path("old", old)]

execute_from_command_line([sys.argv[0], "runserver", "--noreload", "--nothreading", f"127.0.0.1:{port}"])
