"""The joints of a character and the nodes between them."""

from dataclasses import dataclass

import numpy as np

from quiver.errors import BadInput
from quiver.rig.pose import Pose


@dataclass(frozen=True)
class Skeleton:
    """Every node of a character's scene, so that plain nodes between joints count too. J nodes.

    names          J unique names
    parents        int32 (J,), -1 for a root
    order          int32 (J,), parents before children
    is_joint       bool (J,), whether a skin uses the node
    rest           Pose of shape (J,): the rest pose
    """

    names: tuple
    parents: np.ndarray
    order: np.ndarray
    is_joint: np.ndarray
    rest: Pose

    def __len__(self):
        return len(self.names)

    def index(self, name):
        """The node of that name. Raises BadInput."""
        try:
            return self._index_of[name]
        except KeyError:
            raise BadInput(f"expected the name of a joint of this character, got “{name}”") from None

    def __post_init__(self):
        object.__setattr__(self, "_index_of", {name: i for i, name in enumerate(self.names)})
        children = [[] for _ in self.names]
        for child in self.order:
            if self.parents[child] >= 0:
                children[self.parents[child]].append(int(child))
        object.__setattr__(self, "children", children)

    def __contains__(self, name):
        return name in self._index_of

    def ancestors(self, node):
        """The parents of a node, nearest first."""
        found = []
        while (node := int(self.parents[node])) >= 0:
            found.append(node)
        return found

    def below(self, node):
        """A node and all that hang on it, parents first."""
        found = [node]
        for parent in found:
            found.extend(self.children[parent])
        return found


def parents_first(parents):
    """An order of nodes with parents before children. Raises BadInput where the parents go round in a circle."""
    children = [[] for _ in parents]
    order = []
    for node, parent in enumerate(parents):
        (children[parent] if parent >= 0 else order).append(node)
    for node in order:
        order.extend(children[node])
    if len(order) != len(parents):
        raise BadInput(f"expected a tree of nodes, got a circle among {len(parents) - len(order)} nodes")
    return np.array(order, np.int32)
