"""The steps of the work, in order: the one table that the navigation, the URLs and the tests read."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Step:
    """One page of a character. ``slug`` is its URL and its view's name, ``says`` what is done there."""

    slug: str
    label: str
    says: str


STEPS = (
    Step("rig", "Rig", "See what came in: joints, meshes, clips and what is wrong with them."),
    Step("regions", "Regions", "Paint where the skin is soft."),
    Step("motion", "Motion", "Hang chains on joints, make regions soft, and set how they feel."),
    Step("contacts", "Contacts", "Say what may touch what."),
    Step("takes", "Takes", "Run, look, measure and compare."),
    Step("bake", "Bake", "Put the motion onto the joints and take it away."),
)


def step(slug):
    """The step of that slug; KeyError for none, which is a fault of the code."""
    return {each.slug: each for each in STEPS}[slug]
