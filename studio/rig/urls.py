from django.urls import path

from studio.rig import views

urlpatterns = [
    path("characters/<int:pk>/rig/", views.rig, name="rig"),
    path("characters/<int:pk>/rig/unit/", views.set_unit, name="set-unit"),
    path("characters/<int:pk>/rig/rate/", views.use_rate, name="use-rate"),
    path("characters/<int:pk>/clip/", views.choose_clip, name="clip"),
]
