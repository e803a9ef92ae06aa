"""Baking a take onto joints: keys in each joint's own space, as a new clip beside the artist's."""

from dataclasses import dataclass

import numpy as np

from quiver.bake.thinning import Thinned, Track, thinned
from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.clip import PATHS


@dataclass(frozen=True)
class Baked:
    """Tracks of a new clip, what they cost and how far thinning moved them. ``times`` float64 (F,) [s] are those of the frames.

    turn_error [degrees], shift_error and skin_error [file units] are measured against the frames of the take, 0 without thinning.
    """

    tracks: tuple
    kept_from: tuple
    frames: int
    keys: int
    turn_error: float
    shift_error: float
    skin_error: float
    times: np.ndarray


def frames_between(first, last, step):
    """The frames that get keys: every ``step``-th from ``first``, and ``last``. Raises BadInput."""
    if not 1 <= step <= 1000:
        raise BadInput(f"expected a step of 1 to 1000 frames, got {step}")
    frames = np.arange(first, last + 1, step)
    return frames if frames[-1] == last else np.append(frames, last)


def gather(chunks):
    """Put TakeChunks together: rotations (F, K, 4), translations (F, M, 3), offsets (F, R, 3), added (F, L).

    Raises BadInput for no chunk.
    """
    chunks = list(chunks)
    if not chunks:
        raise BadInput("expected a take with at least one frame, got an empty one")
    return tuple(np.concatenate([getattr(chunk, name) for chunk in chunks]) for name in ("rotations", "translations", "offsets", "added"))


def bake(character, clip, frame_rate, take_first, rotated, translated, rotations, translations, first, last, step=1, skin_limit=0.0):
    """Bake frames first..last of a take that begins at frame ``take_first``.

    rotated (K,), translated (M,) nodes; rotations (F, K, 4), translations (F, M, 3) of the take. ``skin_limit`` [file
    units] thins the keys as long as no vertex of any baked frame goes farther than that off the take.
    Raises BadInput for a range outside of the take.
    """
    end = take_first + len(rotations) - 1
    if not take_first <= first <= last <= end:
        raise BadInput(f"expected frames between {take_first} and {end}, got {first} to {last}")
    frames = frames_between(first, last, step)
    # A part of a clip, and one that the file does not have, is written with all of its channels.
    is_whole = first == 0 and last == clip.frame_count(frame_rate) - 1 and not clip.is_made
    offset = clip.start if is_whole else -first / frame_rate
    times = frames / frame_rate + offset
    rows = frames - take_first
    tracks = [Track(int(node), "rotation", times, _continuous(rotations[rows, k])) for k, node in enumerate(rotated)]
    tracks += [Track(int(node), "translation", times, translations[rows, m].astype(float)) for m, node in enumerate(translated)]
    if not is_whole:
        tracks += _resampled(character, clip, frames / frame_rate, times, {(t.node, t.path) for t in tracks})
    few = Thinned(tuple(tracks))
    if skin_limit > 0.0:
        few = thinned(character, clip.sample(character.skeleton, frames / frame_rate), tracks, times, skin_limit)
    keys = sum(len(track.times) for track in few.tracks)
    errors = few.turn_error, few.shift_error, few.skin_error
    return Baked(few.tracks, clip.sources if is_whole else (), len(frames), keys, *errors, times)


def _continuous(rotations):
    """Unit quaternions (F, 4) whose signs never jump, so that readers that mix without care mix rightly."""
    rotations = transforms.normalised(rotations)
    signs = np.sign(np.sum(rotations[1:] * rotations[:-1], axis=1))
    signs = np.cumprod(np.concatenate([[1.0], np.where(signs == 0.0, 1.0, signs)]))
    return rotations * signs[:, None]


def _resampled(character, clip, seconds, times, baked):
    """The clip's other channels at the baked frames; a part of a clip cannot share the whole clip's keys."""
    pose = clip.sample(character.skeleton, seconds)
    arrays = dict(zip(PATHS, (pose.translations, pose.rotations, pose.scales), strict=True))
    wanted = sorted({(channel.node, channel.path) for channel in clip.channels} - baked)
    return [Track(node, path, times, arrays[path][:, node]) for node, path in wanted]
