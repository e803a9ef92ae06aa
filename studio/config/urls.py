"""All URLs: the library, and the steps of one character."""

from django.urls import include, path

urlpatterns = [
    path("", include("studio.accounts.urls")),
    path("", include("studio.characters.urls")),
    path("", include("studio.rig.urls")),
    path("", include("studio.regions.urls")),
    path("", include("studio.motion.urls")),
    path("", include("studio.contacts.urls")),
    path("", include("studio.takes.urls")),
    path("", include("studio.bakes.urls")),
]
