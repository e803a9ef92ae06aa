from django.urls import path

from studio.regions import views

urlpatterns = [
    path("characters/<int:pk>/regions/", views.regions, name="regions"),
    path("characters/<int:pk>/regions/add/", views.add, name="add-region"),
    path("characters/<int:pk>/regions/final/", views.add_final, name="add-final-skin"),
    path("characters/<int:pk>/regions/<slug:region>/change/", views.change, name="change-region"),
    path("characters/<int:pk>/regions/<slug:region>/levels", views.levels, name="region-levels"),
    path("characters/<int:pk>/regions/<slug:region>/facts/", views.facts, name="region-facts"),
    path("characters/<int:pk>/regions/<slug:region>/paint/", views.paint, name="paint-region"),
]
