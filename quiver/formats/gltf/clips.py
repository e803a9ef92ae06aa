"""Animations of a glTF document, gathered into clips."""

from dataclasses import replace

import numpy as np

from quiver.formats.gltf import container
from quiver.formats.gltf.accessors import read_accessor
from quiver.rig import transforms
from quiver.rig.clip import PATHS, Channel, Clip

WIDTHS = {"translation": 3, "rotation": 4, "scale": 3}
MERGE_SLACK = 1.5 / 24
"""Seconds by which the spans of per-joint animations may differ and still be one clip."""


def read_clips(document, skeleton, remarks):
    """All animations as clips; animations that drive one node each and agree in name or span become one clip. Raises BadFormat."""
    clips = []
    for index, animation in enumerate(document.items("animations")):
        name = str(animation.get("name") or f"clip {index + 1}")
        channels = remarks.guard(lambda args=(animation, index): _read_channels(document, skeleton, *args, remarks))
        if channels:
            start = min(float(channel.times[0]) for channel in channels)
            end = max(float(channel.times[-1]) for channel in channels)
            clips.append(Clip(name, tuple(channels), start, end, (index,)))
    return _unique(_merged(clips, remarks))


def _read_channels(document, skeleton, animation, index, remarks):
    where = f"animations[{index}]"
    samplers, channels = animation.get("samplers", []), []
    for number, channel in enumerate(animation.get("channels", [])):
        target = channel.get("target", {})
        path, node = target.get("path"), target.get("node")
        if path == "weights" or node is None:
            continue
        place = f"{where}.channels[{number}]"
        if path not in PATHS:
            remarks.note("path", f"a channel drives “{path}”; it is kept but not used", "", place)
            continue
        sampler_index = channel.get("sampler")
        if not isinstance(sampler_index, int) or not 0 <= sampler_index < len(samplers):
            raise container.refused("missing-sampler", f"sampler {sampler_index!r} does not exist", place)
        if not isinstance(node, int) or not 0 <= node < len(skeleton):
            raise container.refused("missing-node", f"node {node!r} does not exist", place)
        channels.append(_read_channel(document, samplers[sampler_index], node, path, place))
    return channels


def _read_channel(document, sampler, node, path, place):
    interpolation = sampler.get("interpolation", "LINEAR")
    if interpolation not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise container.refused("interpolation", f"expected LINEAR, STEP or CUBICSPLINE, got {interpolation!r}", place)
    times = read_accessor(document, sampler.get("input"), f"{place} times", (1,))[:, 0].astype(float)
    values = read_accessor(document, sampler.get("output"), f"{place} values", (WIDTHS[path],)).astype(float)
    if not np.isfinite(times).all() or not np.isfinite(values).all():
        raise container.refused("non-finite", "a key holds a number that is not finite", place)
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
    return Channel(node, path, interpolation, times, values)


def _merged(clips, remarks):
    def drives_one_node(clip):
        return len({channel.node for channel in clip.channels}) == 1

    groups = []
    for clip in clips:
        for group in groups:
            first = group[0]
            same_span = abs(first.start - clip.start) < MERGE_SLACK and abs(first.end - clip.end) < MERGE_SLACK
            if not (drives_one_node(first) and drives_one_node(clip)) or not (first.name == clip.name or same_span):
                continue
            taken = {(channel.node, channel.path) for other in group for channel in other.channels}
            if taken.isdisjoint((channel.node, channel.path) for channel in clip.channels):
                group.append(clip)
                break
        else:
            groups.append([clip])
    merged = []
    for group in groups:
        if len(group) > 1:
            remarks.note(
                "merged-clips", f"{len(group)} animations of one joint each are read as one clip “{group[0].name}”", "", "animations"
            )
        channels = tuple(channel for clip in group for channel in clip.channels)
        sources = tuple(index for clip in group for index in clip.sources)
        merged.append(Clip(group[0].name, channels, min(c.start for c in group), max(c.end for c in group), sources))
    return merged


def _unique(clips):
    taken, unique = set(), []
    for clip in clips:
        name, number = clip.name, 2
        while name in taken:
            name, number = f"{clip.name} #{number}", number + 1
        taken.add(name)
        unique.append(replace(clip, name=name))
    return unique
