/** The lanes of the score: the playhead, dragging through time, the worst frame by one click, their scale. */
export class Score {
  constructor(element, onScrub) {
    this.element = element;
    this._onScrub = onScrub;
    this._frame = 0;
    this._isDragging = false;
    element.addEventListener('pointerdown', (event) => this._down(event));
    element.addEventListener('pointermove', (event) => { if (this._isDragging) this._scrub(event); });
    for (const name of ['pointerup', 'pointercancel']) element.addEventListener(name, () => { this._isDragging = false; });
    element.addEventListener('click', (event) => {
      const peak = event.target.closest('.peak, .warning');
      if (!peak) return;
      const { frame, mesh, vertex } = peak.dataset;
      onScrub(Number(frame), vertex === undefined ? null : { part: Number(mesh), vertex: Number(vertex) });
    });
    this.hasOwnScale = false;
  }

  get _lanes() { return this.element.querySelector('.lanes'); }

  /** Put ticks and playhead in place after the lanes came anew. */
  layout() {
    for (const tick of this.element.querySelectorAll('.tick')) tick.style.left = `${tick.dataset.percent}%`;
    this._scale();
    this.show(this._frame);
  }

  /** Each lane at its own scale, or all of one unit at one. */
  toggleScale() {
    this.hasOwnScale = !this.hasOwnScale;
    this._scale();
  }

  _scale() {
    this.element.querySelector('#own-scale')?.setAttribute('aria-pressed', String(this.hasOwnScale));
    for (const lane of this.element.querySelectorAll('.lane')) {
      const tall = this.hasOwnScale ? 1 / Number(lane.dataset.share || 1) : 1;
      lane.querySelector('.scaled')?.setAttribute('transform', `translate(0 ${40 - 40 * tall}) scale(1 ${tall})`);
    }
  }

  /** How strongly a muscle is pulled in a frame of what the lanes show, 0..1. */
  pullOf(layer, muscle, frame) {
    const lanes = this._lanes, lane = lanes?.querySelector(`.lane[data-muscle="${CSS.escape(muscle)}"][data-pull-of="${CSS.escape(layer)}"]`);
    if (!lane) return 0;
    lane.valuesRead ??= JSON.parse(lane.dataset.values);
    return (lane.valuesRead[Math.round(frame) - Number(lanes.dataset.first)] ?? 0) / 100;
  }

  show(frame) {
    this._frame = frame;
    const lanes = this._lanes, track = lanes?.querySelector('.track');
    if (!track) return;
    const share = (frame - Number(lanes.dataset.first) + 0.5) / Number(lanes.dataset.count);
    lanes.querySelector('.playhead').style.left = `${track.offsetLeft + share * track.offsetWidth}px`;
    for (const lane of lanes.querySelectorAll('.lane')) {
      lane.valuesRead ??= JSON.parse(lane.dataset.values);
      const value = lane.valuesRead[Math.round(frame) - Number(lanes.dataset.first)];
      lane.querySelector('.lane-now').textContent = value === undefined ? '' : `now ${Math.round(value)}${lane.dataset.unit === '°' ? '°' : ` ${lane.dataset.unit}`}`;
    }
  }

  _down(event) {
    if (!event.target.closest('.track') || event.target.closest('button')) return;
    this._isDragging = true;
    this.element.setPointerCapture(event.pointerId);
    this._scrub(event);
  }

  _scrub(event) {
    const lanes = this._lanes, box = lanes?.querySelector('.track').getBoundingClientRect();
    if (!box) return;
    const share = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
    const count = Number(lanes.dataset.count);
    this._onScrub(Number(lanes.dataset.first) + Math.min(count - 1, Math.floor(share * count)));
  }
}
