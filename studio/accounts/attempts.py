"""How often a password may be tried. The counts are in the server's memory: one process serves all."""

import ipaddress

from django.core.cache import cache

WINDOW_SECONDS = 600
"""After so long without a try all is forgotten."""
MOST_BY_NAME, MOST_BY_ADDRESS = 5, 30
"""Failed tries from one address for one name, and for all names."""


def _keys(address, name):
    """Where the tries of a name from an address are counted, each with how many there may be. All of a /64 network is one address."""
    try:
        parsed = ipaddress.ip_address(address)
    except ValueError:
        parsed = address
    if getattr(parsed, "version", 4) == 6:
        parsed = parsed.ipv4_mapped or ipaddress.ip_network((parsed, 64), strict=False)
    return ((f"login:{parsed}:{name.casefold()[:150].encode().hex()}", MOST_BY_NAME), (f"login:{parsed}", MOST_BY_ADDRESS))


def may_try(address, name):
    """Count a try before the password is looked at, so that many at once are counted too. False once there were too many."""
    counts = []
    for key, most in _keys(address, name):
        cache.add(key, 0, WINDOW_SECONDS)
        try:
            counts.append(cache.incr(key) <= most)
        except ValueError:
            # It ended between the two lines: this is the first of the next ones.
            cache.set(key, 1, WINDOW_SECONDS)
            counts.append(True)
    return all(counts)


def succeeded(address, name):
    """The try was right after all."""
    of_name, of_address = (key for key, _ in _keys(address, name))
    cache.delete(of_name)
    if cache.get(of_address, 0) > 0:
        cache.decr(of_address)
