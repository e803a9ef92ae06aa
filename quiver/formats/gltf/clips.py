"""Animations of a glTF document, gathered into clips."""

from dataclasses import replace

import numpy as np

from quiver.formats.gltf import container
from quiver.formats.gltf.accessors import read_accessor
from quiver.formats.gltf.remarks import unique_names
from quiver.rig import transforms
from quiver.rig.clip import PATHS, Channel, Clip

WIDTHS = {"translation": 3, "rotation": 4, "scale": 3}
MERGE_SLACK = 1.5 / 24
"""Seconds by which the spans of per-joint animations may differ and still be one clip."""
MOST_TRIED = 32
"""Clips begun last that one more is tried to belong to."""
FAR, LATEST = 1e9, 1e6
"""No value of a key is beyond the first, no key later than the second [s]."""


def read_clips(document, skeleton, remarks):
    """All animations as clips; animations that drive one node each and agree in name or span become one clip. Raises BadFormat."""
    clips = []
    for index, animation in enumerate(document.parts["animations"]):
        name = animation.name or f"clip {index + 1}"
        channels = remarks.guard(lambda args=(animation, index): _read_channels(document, skeleton, *args, remarks))
        if channels:
            start = min(float(channel.times[0]) for channel in channels)
            end = max(float(channel.times[-1]) for channel in channels)
            clips.append(Clip(name, tuple(channels), start, end, (index,)))
    return _unique(_merged(clips, remarks))


def _read_channels(document, skeleton, animation, index, remarks):
    where, channels, known = f"animations[{index}]", [], {}
    for number, channel in enumerate(animation.channels):
        path, node = channel.target.path, channel.target.node
        if path == "weights" or node is None:
            continue
        place = f"{where}.channels[{number}]"
        if path not in PATHS:
            remarks.note("path", f"a channel drives “{path[:40]}”; it is kept but not used", "", place)
            continue
        if channel.sampler >= len(animation.samplers):
            raise container.refused("missing-sampler", f"sampler {channel.sampler} does not exist", place)
        if node >= len(skeleton):
            raise container.refused("missing-node", f"node {node} does not exist", place)
        sampler = animation.samplers[channel.sampler]
        key = sampler.input, sampler.output, sampler.interpolation, path
        if key not in known:
            known[key] = _read_keys(document, sampler, path, place)
        channels.append(Channel(node, path, sampler.interpolation, *known[key]))
    return channels


def _read_keys(document, sampler, path, place):
    """Times (K,) and values of a sampler."""
    interpolation = sampler.interpolation
    if interpolation not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise container.refused("interpolation", f"expected LINEAR, STEP or CUBICSPLINE, got {interpolation[:40]!r}", place)
    times = read_accessor(document, sampler.input, f"{place} times", (1,))[:, 0].astype(float)
    values = read_accessor(document, sampler.output, f"{place} values", (WIDTHS[path],)).astype(float)
    if not np.isfinite(times).all() or not np.isfinite(values).all():
        raise container.refused("non-finite", "a key holds a number that is not finite", place)
    if np.abs(values).max(initial=0.0) > FAR or np.abs(times).max(initial=0.0) > LATEST:
        raise container.refused("absurd-size", f"a key holds a value beyond {FAR:g}, or comes later than {LATEST:g} s", place)
    if (np.diff(times) < 0.0).any():
        raise container.refused("time-order", "the keys are not in the order of time", place)
    keys = 3 if interpolation == "CUBICSPLINE" else 1
    if len(values) < keys * len(times):
        raise container.refused("missing-bytes", f"expected {keys * len(times)} values for {len(times)} keys, got {len(values)}", place)
    values = values[: keys * len(times)]
    if keys == 3:
        values = values.reshape(len(times), 3, WIDTHS[path])
    elif path == "rotation":
        values = transforms.normalised(values)
    return times, values


def _merged(clips, remarks):
    """Clips of one node each that belong together as one: of one name, or of one span, without a channel twice."""
    groups, by_name, by_span = [], {}, {}
    for clip in clips:
        targets = {(channel.node, channel.path) for channel in clip.channels}
        if len({node for node, _ in targets}) != 1:
            groups.append(([clip], set(targets)))
            continue
        spans = [(round(clip.start / MERGE_SLACK) + a, round(clip.end / MERGE_SLACK) + b) for a in (-1, 0, 1) for b in (-1, 0, 1)]
        near = [at for span in spans for at in by_span.get(span, [])[-MOST_TRIED:]] + by_name.get(clip.name, [])[-MOST_TRIED:]
        for at in sorted(set(near)):
            members, taken = groups[at]
            first = members[0]
            is_alike = abs(first.start - clip.start) < MERGE_SLACK and abs(first.end - clip.end) < MERGE_SLACK
            if (first.name == clip.name or is_alike) and taken.isdisjoint(targets):
                members.append(clip)
                taken |= targets
                break
        else:
            by_name.setdefault(clip.name, []).append(len(groups))
            by_span.setdefault(spans[4], []).append(len(groups))
            groups.append(([clip], set(targets)))
    merged = []
    for group, _ in groups:
        if len(group) > 1:
            remarks.note(
                "merged-clips", f"{len(group)} animations of one joint each are read as one clip “{group[0].name}”", "", "animations"
            )
        channels = tuple(channel for clip in group for channel in clip.channels)
        sources = tuple(index for clip in group for index in clip.sources)
        merged.append(Clip(group[0].name, channels, min(c.start for c in group), max(c.end for c in group), sources))
    return merged


def _unique(clips):
    names = unique_names([clip.name for clip in clips])
    return [replace(clip, name=name) for clip, name in zip(clips, names, strict=True)]
