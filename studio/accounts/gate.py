"""What is let through: who is logged in, and what they may do with the character of an address."""

from django.conf import settings
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.contrib.auth.views import redirect_to_login
from django.http import Http404, HttpResponse

from studio.characters.rights import Right, person_of, right_at
from studio.faults import told

SAFE = ("GET", "HEAD", "OPTIONS")
READ_ONLY = "This character is shared with you to look at. Ask its owner for the right to change it."
OWNER_ONLY = "Only the owner of this character can do that."


class LoginMiddleware(LoginRequiredMiddleware):
    """Where there are accounts, every page but those of logging in asks who is there."""

    def process_view(self, request, view, args, kwargs):
        return super().process_view(request, view, args, kwargs) if settings.ACCOUNTS else None

    def handle_no_permission(self, request, view):
        if not request.headers.get("HX-Request"):
            return super().handle_no_permission(request, view)
        # A part of a page cannot hold the login: the whole page goes there, and comes back to where it is.
        back = request.headers.get("HX-Current-URL", "/")
        return HttpResponse(status=401, headers={"HX-Redirect": redirect_to_login(back, self.get_login_url(view)).url})


class RightsMiddleware:
    """Answers 404 about a character that is neither one's own nor shared, 403 where it is shared, but not for that.

    ``request.right`` is the Right on the character of the address.
    """

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        return self.get_response(request)

    def process_view(self, request, view, args, kwargs):
        if "pk" not in kwargs:
            return None
        request.right = right_at(person_of(request), request.resolver_match.route, kwargs["pk"])
        needed = getattr(view, "needs", Right.READ if request.method in SAFE else Right.EDIT)
        if request.right == Right.NONE:
            raise Http404
        if request.right >= needed:
            return None
        return told(request, OWNER_ONLY if needed == Right.OWN else READ_ONLY, 403)


def who(request):
    """For templates: the ``person`` who is logged in, None without accounts; ``reads_only`` where that is all they may do."""
    person = getattr(request, "user", None) if settings.ACCOUNTS else None
    return {"person": person if person and person.is_authenticated else None, "reads_only": getattr(request, "right", None) == Right.READ}
