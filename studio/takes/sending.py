"""What is sent to an open page of the takes that it looks at: frames, and what the status line and the score show."""

from django.template.loader import render_to_string

from studio.characters.models import Character
from studio.takes import services
from studio.takes.models import Take
from studio.takes.score import lanes, ticks


class FrameSender:
    """The messages of one take's stream (quiver/formats/frames.py), each once. The last look at the chunks comes after that at the job."""

    def __init__(self, take_id):
        self.take_id, self.is_over = take_id, False
        self._sent, self._has_header = -1, False

    def messages(self):
        """What came since the last time, a list of bytes; reads the database."""
        take = None if self.is_over else Take.objects.select_related("job").filter(pk=self.take_id).first()
        if take is None:
            self.is_over = True
            return []
        found = []
        if take.is_built or not take.job.is_open:
            if not self._has_header:
                self._has_header = True
                found.append(services.take_header(take))
            for chunk in take.chunks.filter(first_frame__gt=self._sent).defer("stats"):
                self._sent = chunk.first_frame
                found.append(services.chunk_message(take, chunk))
        if not take.job.is_open:
            self.is_over = True
            found.append(services.ending_message(take))
        return found


class Watch:
    """What one page is told of a character (its number): score and frames of the take that it looks at, and the status line, each once.
    Where it says a clip, that is the active one for it.

    The status is about the take that was chosen, or about the newest: that may have failed, while an older one is shown.
    """

    def __init__(self, character, clip=None):
        self.character, self._clip, self._wanted, self._wanted_beside = character, clip, "", ""
        self._row = self._shown = self._beside = self._told = None
        self._senders = {}

    def look(self, wanted, beside=""):
        """From now on the page looks at a take, its number as a text; "" for the one that fits the setup; and at another ``beside`` it, ""
        for none. It is told everything anew.
        """
        self._wanted, self._wanted_beside, self._told = wanted, beside, None

    def frames(self):
        """Look at the database: [(take's number, new messages of its stream)], or None where the character is gone."""
        self._row = Character.objects.select_related("current").defer("picture", "findings").filter(pk=self.character).first()
        if self._row is None:
            return None
        if self._clip is not None:
            self._row.active_clip = self._clip
        self._shown = services.take_of(self._row, self._wanted)
        self._beside = services.take_of(self._row, self._wanted_beside) if self._wanted_beside else None
        seen = [take.pk for take in (self._shown, self._beside) if take]
        self._senders = {pk: self._senders.get(pk) or FrameSender(pk) for pk in seen}
        return [(pk, sender.messages()) for pk, sender in self._senders.items()]

    def facts(self):
        """{"kind": "take", "take": number or None, "status" and "score": HTML} of the latest frames, None where nothing changed."""
        row, shown = self._row, self._shown
        about = shown if self._wanted else services.status_take(row)
        known = row.current_id, *(_standing(take) for take in (shown, about, self._beside))
        if known == self._told:
            return None
        self._told = known
        return {
            "kind": "take",
            "take": shown.pk if shown else None,
            "status": render_to_string("takes/status.html", _context(row, about)),
            "score": render_to_string("takes/score.html", _context(row, shown) | _score_context(row, shown, self._beside)),
        }


def _standing(take):
    """What the page shows of a take's job."""
    return (take.pk, take.name, take.job.state, take.job.done, take.job.message, take.cost_ms) if take else None


def _context(row, take):
    return {"character": row, "take": take, "is_stale": bool(take) and services.is_stale(row, take)}


def _score_context(row, take, beside):
    clip = row.clip_facts()
    first, count = (take.first_frame, take.frame_count) if take else (0, clip["frames"] if clip else 1)
    setup = row.setup
    return {
        "lanes": lanes(setup, *(each if each and each.is_built else None for each in (take, beside))),
        "beside": beside,
        "is_any_on": any(layer.is_on for layer in setup.layers),
        "first": first,
        "count": count,
        "ticks": ticks(first, count),
    }
