from django.urls import path

from studio.contacts import views

urlpatterns = [
    path("characters/<int:pk>/contacts/", views.contacts, name="contacts"),
    path("characters/<int:pk>/contacts/add/", views.add, name="add-collider"),
    path("characters/<int:pk>/contacts/skin-contact/", views.add_skin_contact, name="add-skin-contact"),
    path("characters/<int:pk>/contacts/fit/", views.fit_all, name="fit-colliders"),
    path("characters/<int:pk>/contacts/meet/", views.meet_many, name="meet-colliders"),
    path("characters/<int:pk>/contacts/several/", views.change_many, name="change-colliders"),
    path("characters/<int:pk>/contacts/watch/", views.watch_skin, name="watch-skin"),
    path("characters/<int:pk>/contacts/shapes", views.shapes, name="collider-shapes"),
    path("characters/<int:pk>/contacts/<slug:collider>/change/", views.change, name="change-collider"),
    path("characters/<int:pk>/contacts/<slug:collider>/set/", views.set_field, name="set-collider"),
    path("characters/<int:pk>/contacts/<slug:collider>/move/", views.move, name="move-collider"),
    path("characters/<int:pk>/contacts/<slug:collider>/meet/", views.meet, name="meet-collider"),
]
