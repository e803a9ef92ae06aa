"""Who may do what with a character. Without accounts everybody whom the app answers may do everything.

An address begins with what its number stands for ("takes/7/stop/"); apps register what leads from there to the character.
"""

from enum import IntEnum

from django.conf import settings
from django.db.models import Q

from studio.characters.models import Character, Share


class Right(IntEnum):
    """What a person may do with a character, each including those before it."""

    NONE = 0
    READ = 1
    EDIT = 2
    OWN = 3


LARGEST_NUMBER = 2**63 - 1
"""What the database can hold; an address may say more."""
_ways = {"characters": lambda pk: pk}


def leads_to_character(prefix, rows, field):
    """Let the numbers in addresses that begin with ``prefix`` be those of ``rows`` (a manager), whose ``field`` is the character."""
    _ways[prefix] = lambda pk: rows.filter(pk=pk).values_list(field, flat=True).first()


def right_at(person, route, pk):
    """The Right of a User on the character that a number in an address stands for; no one's where nothing leads to one."""
    if not settings.ACCOUNTS:
        return Right.OWN
    way = _ways.get(route.split("/", 1)[0])
    return right_on(person, way(pk)) if way else Right.NONE


def right_on(person, character):
    """The Right of a User on a character, by its number."""
    if not settings.ACCOUNTS:
        return Right.OWN
    if not _is_known(person) or character is None or character > LARGEST_NUMBER:
        return Right.NONE
    if Character.everything.filter(pk=character, owner=person).exists():
        return Right.OWN
    share = Share.objects.filter(character=character, person=person).first()
    return Right.NONE if share is None else Right.EDIT if share.may_edit else Right.READ


def person_of(request):
    """The User who asks, or None where there are no accounts."""
    return request.user if settings.ACCOUNTS else None


def readable(person):
    """The characters in the library that a person may see."""
    return _of(person).select_related("owner") if settings.ACCOUNTS else Character.objects.all()


def editable(person):
    """Those of them that a person may change."""
    return _of(person, may_edit=True) if settings.ACCOUNTS else Character.objects.all()


def _of(person, **shared):
    if not _is_known(person):
        return Character.objects.none()
    shares = Share.objects.filter(person=person, **shared)
    return Character.objects.filter(Q(owner=person) | Q(pk__in=shares.values("character")))


def _is_known(person):
    """Whether it is somebody. What belongs to nobody must not become everybody's."""
    return person is not None and person.is_authenticated


def owned(person, rows):
    """Those of ``rows`` (characters) that are a person's own."""
    if not settings.ACCOUNTS:
        return rows
    return rows.filter(owner=person) if _is_known(person) else rows.none()


def needs(right):
    """Decorates a view: it needs this right on the character of its address. Others need READ to look and EDIT to post."""

    def mark(view):
        view.needs = right
        return view

    return mark
