from django.urls import path

from studio.takes import views

urlpatterns = [
    path("characters/<int:pk>/takes/", views.takes, name="takes"),
    path("characters/<int:pk>/takes/run/", views.run, name="run-take"),
    path("characters/<int:pk>/takes/around/", views.run_around, name="run-around"),
    path("characters/<int:pk>/takes/clips/", views.run_clips, name="run-clips"),
    path("characters/<int:pk>/takes/sweep/", views.sweep, name="sweep"),
    path("sweeps/<int:pk>/", views.show_sweep, name="show-sweep"),
    path("sweeps/<int:pk>/ring/", views.ring_sweep, name="ring-sweep"),
    path("takes/<int:pk>/moving.webp", views.moving_picture, name="moving-picture"),
    path("takes/<int:pk>/use/", views.use_sweep, name="use-sweep"),
    path("characters/<int:pk>/state.json", views.stage_state, name="stage-state"),
    path("characters/<int:pk>/ring/<slug:layer>/", views.start_ring, name="start-ring"),
    path("characters/<int:pk>/takes/solve/", views.start_solve, name="solve"),
    path("solves/<int:pk>/", views.show_solve, name="show-solve"),
    path("solves/<int:pk>/stop/", views.stop_solve, name="stop-solve"),
    path("solves/<int:pk>/use/", views.use_solve, name="use-solve"),
    path("rings/<int:pk>/", views.show_ring, name="show-ring"),
    path("takes/<int:pk>/stop/", views.stop, name="stop-take"),
    path("takes/<int:pk>/keep/", views.keep, name="keep-take"),
    path("takes/<int:pk>/describe/", views.describe, name="describe-take"),
    path("takes/<int:pk>/remove/", views.remove, name="remove-take"),
    path("takes/<int:pk>/restore/", views.restore, name="restore-take"),
    path("takes/<int:pk>/muscles/", views.bring_muscles_back, name="take-muscles"),
    path("takes/<int:pk>/again/", views.again, name="take-again"),
    path("takes/<int:pk>/depth", views.depth, name="take-depth"),
]
