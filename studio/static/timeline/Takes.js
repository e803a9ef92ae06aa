import { FrameStore } from './FrameStore.js';

/** Takes whose frames are kept at the same time. */
const KEPT = 3;

/** The frames of takes as they arrive, each take's by itself: what comes late for one can never enter another. */
export class Takes {
  constructor() {
    /** @type {Map<number, { frames: FrameStore | null, ended: object | null }>} */
    this._takes = new Map();
  }

  /** @param {number} id */
  _take(id) {
    const known = this._takes.get(id) ?? { frames: null, ended: null };
    this._takes.delete(id);
    this._takes.set(id, known);
    for (const old of this._takes.keys()) if (this._takes.size > KEPT) this._takes.delete(old);
    return known;
  }

  /** A take's stream begins, perhaps anew: what was there of it is replaced once frames come.
   * @param {number} id @param {object} header */
  begin(id, header) {
    const take = this._take(id);
    take.frames = new FrameStore(header);
    take.ended = null;
  }

  /** @param {number} id @param {ArrayBuffer} body a chunk's */
  add(id, body) { this._takes.get(id)?.frames?.add(body); }

  /** @param {number} id @param {object} facts how it ended */
  end(id, facts) { this._take(id).ended = facts; }

  /** @param {number | null} id */
  frames(id) { return id === null ? null : this._takes.get(id)?.frames ?? null; }

  /** @param {number | null} id */
  ended(id) { return id === null ? null : this._takes.get(id)?.ended ?? null; }

  /** What to show at a frame: the shown take's frames where they have arrived, those of the one before it elsewhere.
   * @param {number | null} id @param {number | null} before @param {number} frame */
  at(id, before, frame) {
    for (const each of [id, before]) if (this.frames(each)?.has(frame)) return this.frames(each);
    return null;
  }
}
