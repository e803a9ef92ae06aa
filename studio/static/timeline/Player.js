/** Keeps the time: which frame is shown, and how it goes on. Real time, or every frame one after the other. */
export class Player {
  constructor(onFrame, onPlaying) {
    this.frame = 0; this.first = 0; this.count = 1; this.rate = 24;
    this.isPlaying = false; this.loops = true; this.everyFrame = false;
    this._onFrame = onFrame; this._onPlaying = onPlaying; this._before = null;
  }

  get last() { return this.first + this.count - 1; }

  setRange(first, count, rate) {
    this.first = first;
    this.count = count;
    this.rate = rate;
    this.go(this.frame);
  }

  play(isPlaying = !this.isPlaying) {
    if (isPlaying && !this.loops && this.frame >= this.last) this.frame = this.first;
    this.isPlaying = isPlaying; this._before = null;
    this._onPlaying(isPlaying);
  }

  go(frame) {
    this.frame = Math.min(Math.max(frame, this.first), this.last);
    this._onFrame(this.frame);
  }

  step(by) {
    this.play(false);
    this.go(Math.round(this.frame) + by);
  }

  /** Called once for each drawing while it plays. */
  advance(now) {
    if (!this.isPlaying) return;
    const elapsed = this._before === null ? 0 : Math.min((now - this._before) / 1000, 0.25);
    const by = this.everyFrame ? 1 : elapsed * this.rate;
    this._before = now;
    let next = (this.everyFrame ? Math.round(this.frame) : this.frame) + by;
    if (next > this.last) {
      if (!this.loops) { this.go(this.last); this.play(false); return; }
      next = this.count > 1 ? this.first + ((next - this.first) % Math.max(this.count - (this.everyFrame ? 0 : 1), 1)) : this.first;
    }
    this.go(next);
  }
}
