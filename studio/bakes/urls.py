from django.urls import path

from studio.bakes import views

urlpatterns = [
    path("results/", views.all_results, name="results"),
    path("characters/<int:pk>/bake/", views.bake, name="bake"),
    path("characters/<int:pk>/bake/start/", views.start, name="start-bake"),
    path("characters/<int:pk>/bake/clips/", views.start_all, name="bake-clips"),
    path("bakes/<int:pk>/download", views.download, name="download-bake"),
    path("bakes/<int:pk>/delete/", views.delete, name="delete-bake"),
]
