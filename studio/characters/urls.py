from django.urls import path

from studio.characters import views

urlpatterns = [
    path("", views.library, name="library"),
    path("upload/", views.upload, name="upload"),
    path("characters/<int:pk>/", views.open_character, name="character"),
    path("characters/<int:pk>/delete/", views.delete, name="delete"),
    path("characters/<int:pk>/restore/", views.restore, name="restore"),
    path("characters/<int:pk>/picture.png", views.picture, name="picture"),
    path("characters/<int:pk>/source", views.source, name="source"),
    path("characters/<int:pk>/clip-frames", views.clip_frames, name="clip-frames"),
]
