/** Keys in the lanes, of a layer's amount or of a muscle's pull: a double click adds one, they are dragged, Delete removes the one in focus. */
const TOP = 0.05, TALL = 0.9, DOUBLE_MS = 450;

export class AmountKeys {
  /** @param {HTMLElement} element the score @param {string} character @param {{ onBusy: () => void }} options */
  constructor(element, character, { onBusy }) {
    this.element = element;
    this.character = character;
    this.onBusy = onBusy;
    this.isBusy = false;
    this._click = { at: 0, x: 0, y: 0 };
    element.addEventListener('click', (event) => this._clicked(event));
    element.addEventListener('pointerdown', (event) => this._down(event));
    element.addEventListener('keydown', (event) => this._key(event));
  }

  /** Put the keys of keyed layers, and of the chosen ones, into their lanes. */
  layout(chosen) {
    const lanes = this.element.querySelector('.lanes'), first = Number(lanes?.dataset.first), count = Number(lanes?.dataset.count);
    for (const lane of this.element.querySelectorAll('.lane[data-amount]')) {
      for (const old of lane.querySelectorAll('.amount-handle')) old.remove();
      const keys = JSON.parse(lane.dataset.amount), { noun = 'Amount', rest = '1' } = lane.dataset, isKeyed = keys.length > 1 || keys[0]?.[1] !== Number(rest);
      if (!isKeyed && !chosen.includes(lane.dataset.of)) continue;
      keys.forEach(([frame, value], index) => {
        if (frame < first || frame > first + count - 1) return;
        const handle = document.createElement('button');
        Object.assign(handle, { type: 'button', className: 'amount-handle', title: `${noun} ${value} at frame ${frame}: drag; Delete removes it` });
        handle.dataset.key = String(index);
        handle.setAttribute('aria-label', `${noun} ${value} at frame ${frame}`);
        this._place(handle, frame, value, first, count);
        lane.append(handle);
      });
    }
  }

  _place(handle, frame, value, first, count) {
    handle.style.left = `${(100 * (frame - first + 0.5)) / count}%`;
    handle.style.top = `${100 * (TOP + TALL * (1 - value))}%`;
  }

  /** Frame and amount under the pointer. */
  _at(event, lane) {
    const box = lane.getBoundingClientRect(), { first, count } = lane.closest('.lanes').dataset;
    const frame = Number(first) + Math.min(Number(count) - 1, Math.max(0, Math.floor(((event.clientX - box.left) / box.width) * Number(count))));
    const value = 1 - ((event.clientY - box.top) / box.height - TOP) / TALL;
    return [frame, Number(Math.min(1, Math.max(0, value)).toFixed(2))];
  }

  /** Two clicks on one spot. The browser would not count them as double where the lanes came anew in between. */
  _clicked(event) {
    const { at, x, y } = this._click, isNear = event.timeStamp - at < DOUBLE_MS && Math.hypot(event.clientX - x, event.clientY - y) < 5;
    const isSecond = event.detail === 2 || isNear;
    this._click = { at: isSecond ? 0 : event.timeStamp, x: event.clientX, y: event.clientY };
    if (isSecond) this._add(event);
  }

  _add(event) {
    // While the pointer is captured for scrubbing, the score is the target of all its events.
    const under = document.elementFromPoint(event.clientX, event.clientY), lane = /** @type {HTMLElement | null} */ (under?.closest('.lane[data-of]') ?? null);
    if (!lane || under?.closest('button')) return;
    const [frame, value] = this._at(event, lane);
    this._keep(lane, [...JSON.parse(lane.dataset.amount).filter(([at]) => at !== frame), [frame, value]]);
  }

  _key(event) {
    const { key } = event.target.dataset ?? {};
    if (key === undefined || event.key !== 'Delete') return;
    event.stopPropagation();
    const lane = event.target.closest('.lane'), keys = JSON.parse(lane.dataset.amount);
    if (keys.length > 1) this._keep(lane, keys.filter((_, index) => index !== Number(key)));
  }

  _down(event) {
    const handle = event.target.closest('.amount-handle');
    if (!handle) return;
    event.stopImmediatePropagation();
    const lane = handle.closest('.lane'), { first, count } = lane.closest('.lanes').dataset;
    let now = null;
    this.isBusy = true;
    handle.setPointerCapture(event.pointerId);
    const move = (moved) => { now = this._at(moved, lane); this._place(handle, now[0], now[1], Number(first), Number(count)); };
    const up = () => {
      handle.removeEventListener('pointermove', move);
      this.isBusy = false;
      if (now) {
        const keys = JSON.parse(lane.dataset.amount).filter((key, index) => index !== Number(handle.dataset.key) && key[0] !== now[0]);
        this._keep(lane, [...keys, now]);
      }
      this.onBusy();
    };
    handle.addEventListener('pointermove', move);
    handle.addEventListener('pointerup', up, { once: true });
    handle.addEventListener('pointercancel', up, { once: true });
  }

  _keep(lane, keys) {
    const id = lane.dataset.of, sorted = [...keys].sort((a, b) => a[0] - b[0]), own = lane.dataset.keys, isShown = !own && document.getElementById('chosen-layers')?.dataset.ids === id;
    const where = isShown ? { target: '#panel', swap: 'innerHTML' } : { source: '#score', target: '#score', swap: 'none' };
    window.htmx.ajax('POST', `/characters/${this.character}/motion/${own ?? `${id}/amount/`}`, {
      ...where, values: { frame: sorted.map(([frame]) => frame), value: sorted.map(([, value]) => value), ...(own && { command: 'keys' }) },
    });
  }
}
