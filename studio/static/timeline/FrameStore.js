import { mix } from '../viewport/maths/quaternions.js';

const STEPS = 32767;

/** The frames of a clip or a take as they arrive: rotations, translations and scales of some nodes. */
export class FrameStore {
  constructor(header) {
    this.header = header;
    this.first = header.firstFrame;
    this.count = header.frames;
    this.loaded = 0;
    this.rotations = new Float32Array(header.frames * header.rotated.length * 4);
    this.translations = new Float32Array(header.frames * header.translated.length * 3);
    this.scales = new Float32Array(header.frames * header.scaled.length * 3);
    this.movedCount = (header.moved ?? []).reduce((sum, { vertices }) => sum + vertices.length, 0);
    this.offsets = new Int16Array(header.frames * this.movedCount * 3);
    this.offsetSteps = new Float32Array(header.frames);
    this._turn = new Float32Array(4);
  }

  /** Add a chunk message's body (an ArrayBuffer). Chunks come in order. */
  add(body) {
    const [first, frames] = new Uint32Array(body, 0, 2);
    const turns = frames * this.header.rotated.length * 4;
    const quantised = new Int16Array(body, 8, turns);
    const at = (first - this.first) * this.header.rotated.length * 4;
    for (let i = 0; i < turns; i++) this.rotations[at + i] = quantised[i] / STEPS;
    let offset = 8 + turns * 2 + ((turns * 2) % 4);
    const copy = (target, nodes) => {
      target.set(new Float32Array(body, offset, frames * nodes * 3), (first - this.first) * nodes * 3);
      offset += frames * nodes * 12;
    };
    copy(this.translations, this.header.translated.length);
    copy(this.scales, this.header.scaled.length);
    const row = first - this.first;
    this.offsetSteps.fill(new Float32Array(body, offset, 1)[0], row, row + frames);
    this.offsets.set(new Int16Array(body, offset + 4, frames * this.movedCount * 3), row * this.movedCount * 3);
    this.loaded = row + frames;
  }

  has(frame) {
    return this.loaded > 0 && frame >= this.first && Math.ceil(frame) < this.first + this.loaded;
  }

  /** Put the pose of a frame (need not be whole) onto nodes, three.js objects by number. */
  apply(frame, nodes) {
    const at = Math.min(Math.max(frame - this.first, 0), this.loaded - 1);
    const a = Math.floor(at), b = Math.min(a + 1, this.loaded - 1), share = at - a;
    const { rotated, translated, scaled } = this.header;
    for (let k = 0; k < rotated.length; k++) {
      mix(this.rotations, (a * rotated.length + k) * 4, this.rotations, (b * rotated.length + k) * 4, share, this._turn, 0);
      nodes[rotated[k]].quaternion.fromArray(this._turn);
    }
    this._applyVectors(this.translations, translated, a, b, share, (node, x, y, z) => nodes[node].position.set(x, y, z));
    this._applyVectors(this.scales, scaled, a, b, share, (node, x, y, z) => nodes[node].scale.set(x, y, z));
  }

  /** Put the offsets of a frame onto the moved vertices of the skin's parts; ``partOf`` finds the one of an entry of the header's. */
  applyOffsets(frame, partOf) {
    const at = Math.min(Math.max(frame - this.first, 0), this.loaded - 1);
    const a = Math.floor(at), b = Math.min(a + 1, this.loaded - 1), share = at - a;
    const keep = (1 - share) * this.offsetSteps[a], take = share * this.offsetSteps[b];
    let i = a * this.movedCount * 3, j = b * this.movedCount * 3;
    for (const each of this.header.moved) {
      const { vertices } = each, target = partOf(each)?.geometry.attributes.moved;
      // A muscle that a take knows may be gone by now.
      if (!target || vertices.at(-1) >= target.count) { i += 3 * vertices.length; j += 3 * vertices.length; continue; }
      for (const vertex of vertices) {
        for (let c = 0; c < 3; c++) target.array[3 * vertex + c] = keep * this.offsets[i++] + take * this.offsets[j++];
      }
      target.needsUpdate = true;
    }
  }

  _applyVectors(values, nodes, a, b, share, put) {
    for (let k = 0; k < nodes.length; k++) {
      const i = (a * nodes.length + k) * 3, j = (b * nodes.length + k) * 3;
      const part = (c) => values[i + c] + share * (values[j + c] - values[i + c]);
      put(nodes[k], part(0), part(1), part(2));
    }
  }
}
