"""Muscles in a setup's document: what their attachments, drivers and forms hold, written and read."""

import itertools
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from quiver.setup.document_types import (
    FAR,
    MOST_KEYS,
    MOST_VERTICES,
    Identifier,
    Name,
    Number,
    Strict,
    Three,
    expect,
    plain_of,
    values_of_item,
)
from quiver.setup.model import AXES, CURVES, MOST_POINTS, MUSCLE_SHAPES, PULLED_BY, Attachment, Muscle, MuscleForm, PullDriver

MOST_MUSCLES, MOST_DRIVERS = 1000, 16
Level = Annotated[float, Meta(ge=0.0, le=1.0)]
Keys = Annotated[tuple[tuple[Number, Level], ...], Meta(min_length=1, max_length=MOST_KEYS, description="Frame and value, frames rising.")]


class AttachmentDocument(Strict):
    """Where an end of a muscle sits."""

    joint: Name
    bone: Annotated[Name, Meta(description="A mesh that moves with that joint alone.")] = ""
    reach: Annotated[float, Meta(ge=0.0, le=FAR, description="How far from that it holds [mm]; 0: its tip.")] = 0.0
    firmness: Annotated[float, Meta(ge=0.0, le=100.0, description="Rate of the spring that holds it [Hz]; 0: fast.")] = 0.0
    region: Annotated[Name, Meta(description="The id of a region that says what it holds.")] = ""


class PullDriverDocument(Strict):
    """What pulls a muscle."""

    by: Literal[tuple(PULLED_BY)]
    of: Annotated[Name, Meta(description="A joint, or the id of a muscle of the layer.")] = ""
    low: Number = 0.0
    high: Number = 90.0
    axis: Literal[tuple(AXES)] = "any"
    curve: Literal[tuple(CURVES)] = "soft"
    share: Annotated[float, Meta(ge=-1.0, le=1.0)] = 1.0


class MuscleFormDocument(Strict):
    """A muscle made by hand, through points in the rest pose."""

    points: Annotated[tuple[Three, ...], Meta(min_length=2, max_length=MOST_POINTS)]
    shape: Literal[tuple(MUSCLE_SHAPES)]
    width: Annotated[float, Meta(gt=0.0, le=FAR)]
    thickness: Annotated[float, Meta(gt=0.0, le=FAR)]
    thickest: Annotated[float, Meta(ge=0.05, le=0.95)] = 0.5
    tendon: Annotated[float, Meta(ge=0.0, le=0.45)] = 0.15
    outwards: Three = (0.0, 0.0, 1.0)


class MuscleDocument(Strict):
    """A closed piece of a mesh, by one of its vertices, or a form made by hand, from its origin to its insertion."""

    id: Identifier
    origin: AttachmentDocument
    insertion: AttachmentDocument
    mesh: Name = ""
    at: Annotated[int, Meta(ge=0, lt=MOST_VERTICES)] = 0
    form: MuscleFormDocument | None = None
    name: Name | None = None
    dials: Annotated[dict[str, float | str], Meta(description="Dials that it has for itself.")] = {}
    pull: Annotated[Keys, Meta(description="How strongly it is pulled.")] = ((0.0, 0.0),)
    drivers: Annotated[tuple[PullDriverDocument, ...], Meta(max_length=MOST_DRIVERS)] = ()
    smoothing: Annotated[float, Meta(ge=0.0, le=240.0, description="Frames over which the pull is evened out.")] = 0.0


def muscle_plain(muscle):
    given = values_of_item(muscle) | {end: AttachmentDocument(**values_of_item(getattr(muscle, end))) for end in ("origin", "insertion")}
    drivers = tuple(PullDriverDocument(**values_of_item(each)) for each in muscle.drivers)
    given["form"] = muscle.form and MuscleFormDocument(**values_of_item(muscle.form))
    return plain_of(MuscleDocument(**given | {"dials": given.pop("values"), "pull": given.pop("keys"), "drivers": drivers}))


def read_muscle(document, kind, where):
    values = {name: kind.dial(name).checked(value) for name, value in document.dials.items()}
    expect(set(values) <= set(kind.own_dials), f"{where}.dials", f"dials from {', '.join(kind.own_dials)}", sorted(values))
    ends = [Attachment(**_values_of(end)) for end in (document.origin, document.insertion)]
    drivers = tuple(PullDriver(**_values_of(each)) for each in document.drivers)
    expect(bool(document.mesh) != bool(document.form), where, "either a mesh or a form", document.mesh)
    for at, driver in enumerate(drivers):
        expect(driver.low != driver.high, f"{where}.drivers[{at}]", "a low and a high end that differ", driver.low)
    expect(all(a[0] < b[0] for a, b in itertools.pairwise(document.pull)), f"{where}.pull", "frames in rising order", document.pull)
    return Muscle(
        document.id,
        document.name or document.id,
        document.mesh,
        document.at,
        *ends,
        values,
        document.pull,
        drivers,
        document.smoothing,
        document.form and MuscleForm(**_values_of(document.form)),
    )


def _values_of(struct):
    return msgspec.structs.asdict(struct)
