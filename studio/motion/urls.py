from django.urls import path, register_converter

from studio.motion import muscle_views, views


class IdsConverter:
    """Ids of layers with commas between them."""

    regex = "[-a-zA-Z0-9_]+(?:,[-a-zA-Z0-9_]+)*"

    def to_python(self, value):
        return value.split(",")

    def to_url(self, value):
        return value if isinstance(value, str) else ",".join(value)


register_converter(IdsConverter, "ids")

urlpatterns = [
    path("characters/<int:pk>/motion/", views.motion, name="motion"),
    path("characters/<int:pk>/motion/new/", views.new_layer, name="new-layer"),
    path("characters/<int:pk>/motion/add/", views.add_layer, name="add-layer"),
    path("characters/<int:pk>/motion/all/", views.switch_all, name="switch-all"),
    path("characters/<int:pk>/motion/proxies/", views.make_proxies, name="make-proxies"),
    path("characters/<int:pk>/motion/undo/", views.undo, name="undo"),
    path("characters/<int:pk>/motion/redo/", views.redo, name="redo"),
    path("characters/<int:pk>/motion/follow/", views.follow, name="follow"),
    path("characters/<int:pk>/motion/over/", views.bring_over, name="bring-over"),
    path("characters/<int:pk>/motion/scene/", views.set_scene_dial, name="scene-dial"),
    path("characters/<int:pk>/motion/setup.json", views.export_setup, name="export-setup"),
    path("characters/<int:pk>/motion/import/", views.import_setup, name="import-setup"),
    path("characters/<int:pk>/motion/<ids:layers>/dial/", views.set_dial, name="dial"),
    path("characters/<int:pk>/motion/<ids:layers>/override/", views.set_override, name="override"),
    path("characters/<int:pk>/motion/<ids:layers>/change/", views.change_layers, name="change-layers"),
    path("characters/<int:pk>/motion/<ids:layers>/amount/", views.set_amount, name="amount"),
    path("characters/<int:pk>/motion/<slug:layer>/remove-chain/", views.remove_chain, name="remove-chain"),
    path("characters/<int:pk>/motion/<ids:layers>/like/", views.take_dials, name="take-dials"),
    path("characters/<int:pk>/motion/<slug:layer>/preset/", views.save_preset, name="save-preset"),
    path("characters/<int:pk>/motion/<slug:layer>/ride/", views.ride, name="ride"),
    path("characters/<int:pk>/motion/<slug:layer>/leave-out/", views.leave_out, name="leave-out"),
    path("characters/<int:pk>/motion/<slug:layer>/maps/", views.set_maps, name="layer-maps"),
    path("characters/<int:pk>/motion/<slug:layer>/points/", views.follow_points, name="follow-points"),
    path("characters/<int:pk>/motion/<slug:layer>/form/", views.place_form, name="place-form"),
    path("characters/<int:pk>/motion/<slug:layer>/form/move/", views.move_form, name="move-form"),
    path("characters/<int:pk>/motion/<slug:layer>/form/box", views.form_box, name="form-box"),
    path("characters/<int:pk>/motion/<ids:layers>/mirror/", views.mirror, name="mirror-layer"),
    path("characters/<int:pk>/motion/<slug:layer>/volume/", views.volume_facts, name="volume-facts"),
    path("characters/<int:pk>/motion/<slug:layer>/build/", views.start_build, name="start-build"),
    path("characters/<int:pk>/motion/<slug:layer>/build/now/", views.show_build, name="show-build"),
    path("characters/<int:pk>/motion/<slug:layer>/lattice", views.lattice, name="lattice"),
    path("characters/<int:pk>/motion/looks.json", muscle_views.looks, name="muscle-looks"),
    path("characters/<int:pk>/motion/<slug:layer>/muscles/", muscle_views.change_all, name="muscles"),
    path("characters/<int:pk>/motion/<slug:layer>/muscles/<slug:muscle>/", muscle_views.one, name="muscle"),
    path("characters/<int:pk>/motion/<slug:layer>/muscles/<slug:muscle>/change/", muscle_views.change, name="change-muscle"),
    path("setup.schema.json", views.schema, name="setup-schema"),
]
