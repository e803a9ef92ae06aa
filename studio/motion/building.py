"""Conforming solids: built once by a job, on request, and kept in the setup."""

import numpy as np
from django.db import transaction

from quiver.bodies import conforming
from quiver.mesh import regions
from quiver.run.parts.sources import surface_of, usual_edge
from quiver.setup import edits
from studio.characters.services import loaded
from studio.edits.services import edit
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.motion.models import SolidBuild


def start_build(row, layer_id):
    """Queue the building of a layer's solid; one of this character that still runs is asked to stop. Raises BadInput."""
    edits.carrier(row.setup, layer_id)
    with transaction.atomic():
        jobs.ask_to_stop(Job.objects.filter(solid_build__character=row))
        build = SolidBuild.objects.create(character=row, job=jobs.start("build"), layer_id=layer_id)
        jobs.enqueue(build.job, priority=20)
    return build


def stop_build(row, layer_id):
    """Ask the newest building for a layer to stop."""
    build = latest_build(row, layer_id)
    if build:
        jobs.ask_to_stop(Job.objects.filter(pk=build.job_id))


def build(job_id, context):
    """The job: build the solid of the layer as it is now, then keep it as one more version of the setup."""
    build = SolidBuild.objects.select_related("character").get(job_id=job_id)
    row = build.character
    context.character = row.pk
    layer, setup = row.setup.layer(build.layer_id), row.setup
    character, _ = loaded(row.pk)
    mesh, levels = character.painted(setup.region(layer.region))
    surface = surface_of(character, mesh, setup.metres_per_unit)
    edge = layer.value("cell_size") / 1000.0 or usual_edge(surface, regions.is_in(levels))
    found = conforming.tetrahedralise(surface, np.asarray(mesh.triangles), edge, context.keep_going)
    if found is None:
        return
    nodes, tets = found
    built = conforming.encode(nodes / setup.metres_per_unit, tets)
    edit(row, lambda setup: edits.set_fields(setup, build.layer_id, built=built), f"{layer.name}: conforming solid")


def latest_build(row, layer_id):
    """The newest building for a layer, or None."""
    return row.solid_builds.filter(layer_id=layer_id).select_related("job").first()
