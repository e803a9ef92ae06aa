"""What is sent of takes as they are simulated: frames, and what the status line and the score show."""

from studio.takes import services
from studio.takes.models import Take
from studio.takes.score import lanes, ticks


class FrameSender:
    """The messages of one take's stream (quiver/formats/frames.py), each once. The last look at the chunks comes after that at the job."""

    def __init__(self, take_id):
        self.take_id, self.is_over = take_id, False
        self._sent, self._has_header = -1, False

    def messages(self):
        """What came since the last time; reads the database."""
        take = Take.objects.select_related("job").filter(pk=self.take_id).first()
        if take is None or self.is_over:
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


def score_context(row, take):
    """What the score's template shows of a take, or of none."""
    clip = row.clip_facts()
    first, count = (take.first_frame, take.frame_count) if take else (0, clip["frames"] if clip else 1)
    return {
        "character": row,
        "take": take,
        "lanes": lanes(take, take.version.setup) if take and take.is_built else [],
        "first": first,
        "count": count,
        "ticks": ticks(first, count),
        "is_stale": bool(take) and services.is_stale(row, take),
    }


def status_context(row, take=None):
    """What the status line's template shows of a take, the newest of the clip if none is said."""
    take = take or services.status_take(row)
    return {"character": row, "take": take, "is_stale": bool(take) and services.is_stale(row, take)}
