"""Things made of a character that are kept for the next run."""

from collections import OrderedDict


class Cache:
    """The last few things that were made of characters. What is kept must not be changed by those who use it."""

    def __init__(self, most):
        self.most, self._things = most, OrderedDict()

    def get(self, character, key, make):
        """What ``make()`` returned for this character and key the last time, or makes now."""
        key = (id(character), *key)
        found = self._things.get(key)
        if found is None or found[0] is not character:
            # The character is kept with it: its id stays its own that way.
            found = self._things[key] = (character, make())
            while len(self._things) > self.most:
                self._things.popitem(last=False)
        self._things.move_to_end(key)
        return found[1]
