"""What varies while a run goes on, told apart from what is constant: so that a run can be stopped, kept, and gone on with elsewhere."""

import copy


class Varying:
    """A thing with a constant side and a state. VARYING names what a run changes, arrays and plain values; INSIDE the parts of it
    that have a state of their own: a Varying, a list of them, or None.
    """

    VARYING = ()
    INSIDE = ()

    def fresh(self):
        """A copy whose state is its own; what is constant is shared."""
        own = copy.copy(self)
        for name in self.INSIDE:
            inner = getattr(self, name, None)
            if inner is not None:
                setattr(own, name, [each.fresh() for each in inner] if isinstance(inner, list) else inner.fresh())
        return own

    def snapshot(self):
        """The state as it is now, as plain values of its own."""
        state = {name: _copied(getattr(self, name)) for name in self.VARYING if hasattr(self, name)}
        for name in self.INSIDE:
            inner = getattr(self, name, None)
            if inner is not None:
                state[name] = [each.snapshot() for each in inner] if isinstance(inner, list) else inner.snapshot()
        return state

    def restore(self, state):
        """Go back to a snapshot, which stays as it is."""
        for name in self.VARYING:
            if name in state:
                setattr(self, name, _copied(state[name]))
        for name in self.INSIDE:
            inner = getattr(self, name, None)
            if isinstance(inner, list):
                for each, its in zip(inner, state[name], strict=True):
                    each.restore(its)
            elif inner is not None:
                inner.restore(state[name])


def _copied(value):
    return value.copy() if hasattr(value, "copy") else value
