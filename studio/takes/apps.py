from django.apps import AppConfig

from studio.jobs import forehand, handlers, housekeeping


class TakesConfig(AppConfig):
    name = "studio.takes"

    def ready(self):
        from studio.characters.rights import leads_to_character  # noqa: PLC0415  (models are there only now)
        from studio.characters.services import before_removal, forget_removed, when_removed  # noqa: PLC0415
        from studio.characters.tidying import forget_blobs, forget_old_versions  # noqa: PLC0415
        from studio.edits import services as edits  # noqa: PLC0415
        from studio.takes import elsewhere, models, ringing, running, services, solving  # noqa: PLC0415

        handlers.register("take", running.simulate)
        handlers.register("ring", ringing.ring)
        handlers.register("solve", solving.run_solve)
        handlers.keep_parts(elsewhere.forget_parts)
        handlers.compute_elsewhere(("take", "solve"), elsewhere.places, elsewhere.end)
        leads_to_character("takes", models.Take.everything, "character")
        leads_to_character("sweeps", models.Sweep.objects, "version__character")
        leads_to_character("rings", models.RingTest.objects, "version__character")
        leads_to_character("solves", models.Solve.objects, "version__character")
        forehand.register(services.get_ready)
        edits.on_change(services.follow)
        before_removal(services.forget_all)
        when_removed(services.stop_all)
        housekeeping.register(services.forget_removed)
        housekeeping.register(forget_removed)
        housekeeping.register(forget_old_versions)
        housekeeping.register(forget_blobs)
