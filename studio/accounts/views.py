"""Logging in and out, and who else may see a character."""

from django.contrib.auth import get_user_model
from django.contrib.auth.views import LoginView
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from quiver.errors import BadInput
from studio.accounts import attempts
from studio.characters.models import Share
from studio.characters.pages import character_or_404
from studio.characters.rights import Right, needs

TOO_OFTEN = "Too many wrong passwords from here. Wait ten minutes, then try again."


class Login(LoginView):
    """Django's own, with a limit to how often it may be tried."""

    template_name = "accounts/login.html"

    def post(self, request, *args, **kwargs):
        if attempts.may_try(request.META["REMOTE_ADDR"], request.POST.get("username", "")):
            return super().post(request, *args, **kwargs)
        context = {"refused": TOO_OFTEN, "form": self.form_class(request)}
        response = render(request, self.template_name, self.get_context_data(**context), status=429)
        response.headers["Retry-After"] = str(attempts.WINDOW_SECONDS)
        return response

    def form_valid(self, form):
        attempts.succeeded(self.request.META["REMOTE_ADDR"], self.request.POST.get("username", ""))
        return super().form_valid(form)


@needs(Right.OWN)
@require_http_methods(["GET", "HEAD", "POST"])
def sharing(request, pk):
    """Who else sees a character; the owner adds people by their name, lets them change it or only look, and takes it back."""
    row = character_or_404(pk, request)
    if request.method == "POST":
        _share(row, request.POST)
        return redirect("sharing", pk)
    shares = row.shares.select_related("person").order_by("person__username")
    return render(request, "accounts/sharing.html", {"character": row, "shares": shares})


def _share(row, sent):
    """Add a share, or remove one. Raises BadInput."""
    name = sent.get("name", "").strip()
    person = get_user_model().objects.filter(username=name, is_active=True).first()
    if person is None:
        raise BadInput(f"expected the name that somebody logs in with, found nobody named “{name[:60]}”")
    if person.pk == row.owner_id:
        raise BadInput("this character is your own already")
    if sent.get("may") == "nothing":
        row.shares.filter(person=person).delete()
    elif sent.get("may") in ("look", "edit"):
        Share.objects.update_or_create(character=row, person=person, defaults={"may_edit": sent["may"] == "edit"})
    else:
        raise BadInput("expected to look, to edit, or nothing")
