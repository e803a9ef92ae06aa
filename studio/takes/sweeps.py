"""What the sheet of a sweep shows: small moving pictures of its takes, how its dials change them, and the ring of each."""

import io

import numpy as np
from PIL import Image

from quiver import layers as registry
from quiver.errors import BadInput
from quiver.picture import all_places, strip
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from quiver.run.keyed import keyed_clip
from quiver.setup import edits
from studio.characters.services import loaded
from studio.edits.services import edit
from studio.takes import ringing
from studio.takes.models import MovingPicture, RingTest
from studio.takes.posed import scenes
from studio.takes.services import worst_of

WIDTH, HEIGHT, MOST_PICTURES, QUALITY = 192, 144, 36, 80
"""Of each picture [pixels]; so many of a take; and of the WebP, in percent."""
ABOUT, ALONG_GROUND = 5, np.array((1.0, 0.0, 1.0))
"""So many frames of the keyed clip are to be in view; and the ways that the pictures go along with."""
LANE_WIDTH, LANE_HEIGHT = 192.0, 34.0


def draw(take):
    """Draw a take that has just been made as small pictures, and keep them. They go along with a character that travels."""
    character, _ = loaded(take.character_id)
    step = -(-take.frame_count // MOST_PICTURES)
    frames = np.arange(take.first_frame, take.last_frame + 1, step)
    worlds = _keyed_worlds(take, character, frames)
    travelled = worlds[:, :, :, 3].mean(1)
    travelled = (travelled - travelled[0]) * ALONG_GROUND
    posed = scenes(take, character, frames, range(len(character.meshes)))
    places = ([each - way for each in positions] for (_, positions), way in zip(posed, travelled, strict=True))
    some = np.linspace(0, len(frames) - 1, ABOUT).astype(int)
    about = all_places([skinned_positions(mesh, worlds[at]) - travelled[at] for at in some for mesh in character.meshes])
    packed = io.BytesIO()
    Image.fromarray(strip(character, places, about, WIDTH, HEIGHT)).save(packed, "WEBP", quality=QUALITY)
    kept = {"pictures": len(frames), "step": step, "data": packed.getvalue()}
    MovingPicture.objects.update_or_create(take=take, defaults=kept)


def _keyed_worlds(take, character, frames):
    """Node matrices (F, J, 3, 4) of the keyed clip."""
    clip = keyed_clip(character, take.version.setup, take.clip_name).uncarried
    return world_matrices(character.skeleton, clip.sample(character.skeleton, frames / take.frame_rate))


def sheet(sweep):
    """What the page of a Sweep shows: its dials, and its takes in rows of the first dial, each with its values, lane, ring and numbers."""
    setup = sweep.version.setup
    dials = [(setup.layer(layer), registry.kind_of(setup.layer(layer).kind).dial(dial)) for layer, dial in sweep.dials]
    takes = list(sweep.takes.select_related("job", "version", "moving").defer("moving__data").order_by("pk"))
    columns = sweep.values[-1] if len(dials) == 2 else [None]
    added = {take.pk: _added(take, dials[0][0].id) for take in takes}
    most = max((max(each, default=0.0) for each in added.values()), default=0.0)
    rings = {test.version_id: test for test in RingTest.objects.filter(version__takes__sweep=sweep).select_related("job").order_by("pk")}
    cells = [
        {
            "take": take,
            "moving": getattr(take, "moving", None),
            "values": _values(sweep, dials, take),
            "lane": _path(added[take.pk], most),
            "peak": max(added[take.pk], default=0.0),
            "worst": worst_of(take),
            "ring": rings.get(take.version_id),
        }
        for take in takes
    ]
    return {
        "sweep": sweep,
        "character": sweep.version.character,
        "dials": dials,
        "columns": columns,
        "rows": [cells[at : at + len(columns)] for at in range(0, len(cells), len(columns))] if len(dials) == 2 else [cells],
        "is_open": any(take.job.is_open for take in takes),
        "pictures": max((cell["moving"].pictures for cell in cells if cell["moving"]), default=1),
        "rate": takes[0].frame_rate / next((cell["moving"].step for cell in cells if cell["moving"]), 1) if takes else 1.0,
        "lane_size": (LANE_WIDTH, LANE_HEIGHT),
    }


def _values(sweep, dials, take):
    """[(label, value, unit)] of the swept dials in a take."""
    own = take.version.setup.on(sweep.clip_name)
    return [(dial.label, own.layer(layer.id).value(dial.name), dial.unit) for layer, dial in dials]


def _added(take, layer_id):
    """What the layer added in each frame [mm]; nothing yet of a take that is not there."""
    if layer_id not in take.layer_ids:
        return []
    column = take.layer_ids.index(layer_id)
    return [row[column] for row in take.added]


def _path(values, most):
    """The values as an SVG area in the box of a lane, all lanes of a sweep at one scale."""
    if len(values) < 2 or most <= 0.0:
        return ""
    step = LANE_WIDTH / (len(values) - 1)
    points = (f"{number * step:.1f} {LANE_HEIGHT * (1.0 - 0.94 * value / most):.1f}" for number, value in enumerate(values))
    return f"M0 {LANE_HEIGHT:.0f}L{'L'.join(points)}L{LANE_WIDTH:.0f} {LANE_HEIGHT:.0f}Z"


def ring_all(sweep):
    """Ring the swept layer of every take that was not rung yet. Raises BadInput."""
    rung = RingTest.objects.filter(version__takes__sweep=sweep).values_list("version_id", flat=True)
    for take in sweep.takes.exclude(version_id__in=list(rung)).select_related("version"):
        ringing.start_ring_of(take.version, sweep.dials[0][0])


def use(row, take):
    """Make the swept dials of a take those of the current setup; all else stays. Raises BadInput. Returns the Take that follows."""
    if take.sweep is None:
        raise BadInput("expected a take of a sweep")

    def command(setup):
        own = take.version.setup.on(take.sweep.clip_name)
        for layer, dial in take.sweep.dials:
            setup = edits.set_dial_on(setup, take.sweep.clip_name, [layer], dial, own.layer(layer).value(dial))
        return setup

    return edit(row, command, take.name or f"Dials of take {take.pk}").take
