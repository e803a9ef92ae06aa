"""Files as other tools write them, made with a library that is not ours."""

import numpy as np
import pygltflib as gl


def arm(
    names=("root", "upper", "lower", "hand"),
    weights_sum=1.0,
    clips=("wave",),
    per_joint=False,
    byte_weights=False,
    z_up=False,
    seconds=1.5,
    rates=None,
):
    """A small arm: four joints in a row, a strip of skin, clips that turn the joints. Returns a pygltflib document.

    rates  {clip: frames a second} of clips that are keyed on every frame
    """
    file = _Writer()
    count = len(names)
    nodes = [gl.Node(name=name, translation=[0.0, 0.0, 0.0] if k == 0 else [0.0, 0.3, 0.0]) for k, name in enumerate(names)]
    for k in range(count - 1):
        nodes[k].children = [k + 1]
    rows = 4 * count
    y = np.linspace(0.0, 0.3 * count, rows).repeat(2)
    positions = np.stack([np.tile([-0.05, 0.05], rows), y, 0 * y], 1).astype(np.float32)
    joints = np.zeros((2 * rows, 4), np.uint8)
    joints[:, 0] = np.clip(y // 0.3, 0, count - 1)
    joints[:, 1] = np.clip(joints[:, 0] + 1, 0, count - 1)
    share = np.where(joints[:, 1] > joints[:, 0], np.clip(y / 0.3 % 1.0, 0, 1), 0.0)
    joints[share == 0.0, 1] = 0
    weights = np.stack([1 - share, share, 0 * share, 0 * share], 1) * weights_sum
    quads = np.arange(rows - 1)[:, None] * 2 + np.array([[0, 1, 3, 0, 3, 2]])
    attributes = gl.Attributes(POSITION=file.add(positions, gl.VEC3, bounds=True), JOINTS_0=file.add(joints, gl.VEC4))
    if byte_weights:
        quantised = np.round(weights * 255).astype(np.uint8)
        quantised[:, 0] += (255 - quantised.sum(1)).astype(np.uint8)
        attributes.WEIGHTS_0 = file.add(quantised, gl.VEC4, normalized=True)
    else:
        attributes.WEIGHTS_0 = file.add(weights.astype(np.float32), gl.VEC4)
    primitive = gl.Primitive(
        attributes=attributes, indices=file.add(quads.reshape(-1, 1).astype(np.uint16), gl.SCALAR, target=gl.ELEMENT_ARRAY_BUFFER)
    )
    nodes.append(gl.Node(name="strip", mesh=0, skin=0))
    top = [0, count]
    if z_up:
        nodes.append(gl.Node(name="Z up", rotation=[-np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)], children=[0]))
        top = [count + 1, count]
    binds = np.tile(np.eye(4, dtype=np.float32), (count, 1, 1))
    binds[:, 3, 1] = -0.3 * np.arange(count)
    file.document.nodes, file.document.meshes = nodes, [gl.Mesh(name="strip", primitives=[primitive])]
    file.document.skins = [gl.Skin(joints=list(range(count)), inverseBindMatrices=file.add(binds.reshape(count, 16), gl.MAT4, target=None))]
    file.document.scenes, file.document.scene = [gl.Scene(nodes=top)], 0
    file.document.asset = gl.Asset(version="2.0", generator="test")
    for clip in clips:
        file.add_wave(clip, count, per_joint, seconds, (rates or {}).get(clip))
    return file.finish()


class _Writer:
    def __init__(self):
        self.document = gl.GLTF2()
        self._bytes = b""

    def add(self, values, kind, bounds=False, normalized=False, target=gl.ARRAY_BUFFER):
        self._bytes += b"\0" * (-len(self._bytes) % 4)
        view = gl.BufferView(buffer=0, byteOffset=len(self._bytes), byteLength=values.nbytes, target=target)
        if values.dtype == np.float32 and target is None:
            view.target = None
        self._bytes += values.tobytes()
        self.document.bufferViews.append(view)
        code = {"f4": gl.FLOAT, "u1": gl.UNSIGNED_BYTE, "u2": gl.UNSIGNED_SHORT}[values.dtype.str[1:]]
        flat = values.reshape(len(values), -1)
        accessor = gl.Accessor(
            bufferView=len(self.document.bufferViews) - 1, componentType=code, count=len(values), type=kind, normalized=normalized
        )
        if bounds:
            accessor.min, accessor.max = flat.min(0).tolist(), flat.max(0).tolist()
        self.document.accessors.append(accessor)
        return len(self.document.accessors) - 1

    def add_wave(self, name, joints, per_joint, seconds, rate):
        """Turns every joint to and fro; each channel has times of its own, as many exporters write it."""
        animations = []
        for joint in range(1, joints):
            times = np.linspace(0.0, seconds, 19 + joint, dtype=np.float32)
            if rate:
                times = (np.arange(round(seconds * rate) + 1) / rate).astype(np.float32)
            angle = 0.5 * np.sin(2 * np.pi * times / seconds + joint)
            values = np.stack([0 * angle, 0 * angle, np.sin(angle / 2), np.cos(angle / 2)], 1).astype(np.float32)
            sampler = gl.AnimationSampler(
                input=self.add(times[:, None], gl.SCALAR, bounds=True, target=None), output=self.add(values, gl.VEC4, target=None)
            )
            if per_joint or not animations:
                animations.append(gl.Animation(name=f"{name} {joint}" if per_joint else name, samplers=[], channels=[]))
            animation = animations[-1]
            animation.samplers.append(sampler)
            target = gl.AnimationChannelTarget(node=joint, path="rotation")
            animation.channels.append(gl.AnimationChannel(sampler=len(animation.samplers) - 1, target=target))
        self.document.animations.extend(animations)

    def finish(self):
        self.document.buffers = [gl.Buffer(byteLength=len(self._bytes))]
        self.document.set_binary_blob(self._bytes)
        return self.document


def glb_bytes(document):
    return b"".join(document.save_to_bytes())
