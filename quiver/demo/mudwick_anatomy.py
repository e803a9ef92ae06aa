"""What is under Mudwick's skin: the bones of his legs, jaw and tail root, and the muscles that move them."""

import numpy as np

from quiver.bodies import muscle_forms
from quiver.demo import shapes
from quiver.demo.building import Part, mirrored
from quiver.layers import kind_of
from quiver.setup import edits
from quiver.setup.model import Attachment, Muscle, PullDriver

BONE, FLESH, TENDON = (226, 214, 186), (168, 74, 62), (222, 190, 160)
BONES = {
    "shoulder blade": ("chest", [(0.13, 1.00, 0.30), (0.20, 0.90, 0.35), (0.232, 0.77, 0.37)], 0.13, 0.035),
    "fore upper bone": ("fore_upper", [(0.235, 0.76, 0.37), (0.275, 0.44, 0.33)], 0.062, 0.062),
    "fore lower bone": ("fore_lower", [(0.275, 0.43, 0.33), (0.275, 0.12, 0.40)], 0.052, 0.052),
    "pelvis": ("hips", [(0.10, 0.92, -0.40), (0.17, 0.82, -0.44), (0.205, 0.74, -0.43)], 0.10, 0.05),
    "hind upper bone": ("hind_upper", [(0.205, 0.74, -0.43), (0.255, 0.42, -0.33)], 0.064, 0.064),
    "hind lower bone": ("hind_lower", [(0.255, 0.41, -0.33), (0.25, 0.12, -0.45)], 0.05, 0.05),
}
"""Left ones, as the joint's name without its side, points [m], width and thickness [m]."""
MIDDLE_BONES = {
    "jaw bone": ("jaw", [(0.0, 1.0, 0.84), (0.0, 0.985, 1.10)], 0.13, 0.035),
    "tail bone": ("tail_1", [(0.0, 0.82, -0.64), (0.0, 0.80, -0.84)], 0.05, 0.05),
}
MUSCLES = {
    "shoulder": (("chest", "shoulder blade"), ("fore_upper", "fore upper bone"),
                 [(0.17, 1.00, 0.34), (0.285, 0.83, 0.39), (0.305, 0.60, 0.355)], "fan", 0.17, 0.085, 0.55),
    "upper arm front": (("chest", "shoulder blade"), ("fore_lower", "fore lower bone"),
                        [(0.235, 0.80, 0.42), (0.28, 0.60, 0.435), (0.28, 0.38, 0.375)], "spindle", 0.085, 0.075, 0.5),
    "upper arm back": (("chest", "shoulder blade"), ("fore_lower", "fore lower bone"),
                       [(0.205, 0.86, 0.27), (0.265, 0.63, 0.245), (0.28, 0.40, 0.275)], "spindle", 0.10, 0.085, 0.42),
    "haunch": (("hips", "pelvis"), ("hind_upper", "hind upper bone"),
               [(0.15, 0.94, -0.46), (0.275, 0.80, -0.47), (0.30, 0.52, -0.375)], "fan", 0.20, 0.10, 0.5),
    "thigh front": (("hips", "pelvis"), ("hind_lower", "hind lower bone"),
                    [(0.195, 0.80, -0.34), (0.265, 0.58, -0.275), (0.27, 0.36, -0.30)], "spindle", 0.10, 0.085, 0.42),
    "thigh back": (("hips", "pelvis"), ("hind_lower", "hind lower bone"),
                   [(0.17, 0.80, -0.55), (0.235, 0.58, -0.49), (0.25, 0.34, -0.42)], "spindle", 0.105, 0.09, 0.45),
    "jaw": (("head", ""), ("jaw", "jaw bone"), [(0.135, 1.16, 0.90), (0.155, 1.07, 0.93), (0.075, 0.985, 1.0)], "strap", 0.075, 0.05, 0.5),
    "tail root": (("hips", "pelvis"), ("tail_2", ""),
                  [(0.09, 0.90, -0.50), (0.105, 0.865, -0.66), (0.06, 0.815, -0.90)], "spindle", 0.075, 0.07, 0.4),
}
"""Left ones: (joint, bone) of the origin and of the insertion, points [m], shape, width, thickness [m], where it is thickest."""

OF_LEGS = 12 * (muscle_forms.RINGS * muscle_forms.AROUND + 2)
"""So many vertices, the first ones, are those of legs' muscles."""
OWN = {"jaw": {"wobble_rate": 9.0, "shortening": 18.0}, "haunch": {"wobble_rate": 4.0, "settle_time": 14.0}}
"""Dials that some muscles have for themselves."""


def bone_names(side):
    """{bone: name of its mesh} of a side, l or r."""
    return {name: f"{name} {side}" for name in BONES} | {name: name for name in MIDDLE_BONES}


def bones(builder):
    """(name, [Part]) of all bones."""
    for letter, side in (("l", 1.0), ("r", -1.0)):
        for name, (joint, points, width, thickness) in BONES.items():
            joint = joint if joint in ("chest", "hips") else f"{joint}_{letter}"
            yield bone_names(letter)[name], [_part(builder, joint, points, side, "strap", width, thickness, 0.5, BONE)]
    for name, (joint, points, width, thickness) in MIDDLE_BONES.items():
        yield name, [_part(builder, joint, points, 1.0, "strap", width, thickness, 0.5, BONE)]


def muscles(builder):
    """[Part] of all muscles, left and right of each after another."""
    for (joint, _), _, points, shape, width, thickness, thickest in MUSCLES.values():
        for letter, side in (("l", 1.0), ("r", -1.0)):
            own = joint if joint in ("chest", "hips", "head") else f"{joint}_{letter}"
            yield _part(builder, own, points, side, shape, width, thickness, thickest, FLESH)


def attachments(name, letter):
    """((joint, bone), (joint, bone)) of a muscle's two ends on a side, by names of joints and meshes."""
    middle = ("chest", "hips", "head", "jaw", "tail_1", "tail_2")
    return tuple((joint if joint in middle else f"{joint}_{letter}", bone_names(letter).get(bone, "")) for joint, bone in MUSCLES[name][:2])


def layers():
    """Two layers of muscles, pulled by how much and how quickly they shorten. Those of the tail follow its chain, the others nothing."""
    ends = list(MUSCLES).index("tail root")
    made = _pulled(list(MUSCLES))
    own = {"muscles": ("Muscles", made[: 2 * ends]), "tail-muscles": ("Tail muscles", made[2 * ends :])}
    return [_layer(name, label, muscles) for name, (label, muscles) in own.items()]


def _pulled(names):
    made, at = [], 0
    for name in names:
        for letter, _ in (("l", 1.0), ("r", -1.0)):
            origin, insertion = (Attachment(joint, bone) for joint, bone in attachments(name, letter))
            drivers = (PullDriver("shortening", low=-2.0, high=10.0, share=0.7), PullDriver("speed", low=0.0, high=90.0, share=0.4))
            label = f"{name.capitalize()} {letter}"
            own = edits.free_id(label, "muscle", made)
            made.append(Muscle(own, label, "muscles", at, origin, insertion, OWN.get(name, {}), drivers=drivers, smoothing=1.0))
            at += muscle_forms.RINGS * muscle_forms.AROUND + 2
    return made


def _layer(name, label, made):
    bones = sorted({end.bone for own in made for end in (own.origin, own.insertion) if end.bone})
    values = kind_of("muscle").preset("Shoulder")
    return edits.new_layer("muscle", name, label, values, muscles=tuple(made), bones=tuple(bones))


def _part(builder, joint, points, side, shape, width, thickness, thickest, colour):
    places = np.array([mirrored(point, side) for point in points])
    outwards = np.array((side, 0.0, 0.0)) if abs(places[:, 0]).max() > 0.01 else np.array((0.0, 1.0, 0.0))
    vertices, triangles = muscle_forms.surface(places, shape, width, thickness, thickest, 0.12, outwards)
    tints = np.tile(np.array(colour, float), (len(vertices), 1))
    if colour == FLESH:
        along = np.repeat(np.linspace(0.0, 1.0, muscle_forms.RINGS), muscle_forms.AROUND)
        pale = np.clip(1.0 - np.minimum(np.append(along, [0.0, 1.0]), 1.0 - np.append(along, [0.0, 1.0])) / 0.18, 0.0, 1.0)
        tints += pale[:, None] * (np.array(TENDON, float) - tints)
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), tints, builder.whole(joint, len(vertices)))
