/** Sliders and number fields of dials: one follows the other, wide ranges are logarithmic, arrow keys go in the dial's own steps. */
const WIDE = 200, COARSE = 10, FINE = 0.1, QUIET_MS = 350;

const scaleOf = (slider) => {
  const [low, high, step] = ['low', 'high', 'step'].map((name) => Number(slider.dataset[name]));
  return { low, high, step, power: (high - low) / step > WIDE ? Math.log(Math.min((high - low) / step, 1000)) : 0 };
};

/** The place of a value on a slider; on a wide range it goes as the logarithm. */
export function toSlider(value, { low, high, power }) {
  const share = Math.min(1, Math.max(0, (value - low) / (high - low)));
  return power ? Math.log1p(share * Math.expm1(power)) / power : value;
}

/** The value at a place on a slider, in the dial's steps, or finer where those are coarse beside the value. */
export function fromSlider(place, { low, high, step, power }) {
  const value = power ? low + ((high - low) * Math.expm1(place * power)) / Math.expm1(power) : Number(place);
  return rounded(value, power && Math.abs(value) < 4 * step ? step / 4 : step);
}

function rounded(value, step) {
  const digits = Math.max(0, Math.ceil(-Math.log10(step)) + 1);
  return Number((Math.round(value / step) * step).toFixed(digits));
}

/** Give the sliders below an element their ranges. */
function prepare(root) {
  for (const slider of root.querySelectorAll('input[type="range"][data-low]')) {
    const scale = scaleOf(slider);
    slider.min = scale.power ? 0 : scale.low;
    slider.max = scale.power ? 1 : scale.high;
    slider.step = scale.power ? 0.001 : scale.step;
    slider.value = toSlider(Number(slider.dataset.value), scale);
  }
}

const timers = new WeakMap();

/** Tell a number's form of its change, once no further key follows. */
function changeSoon(number) {
  clearTimeout(timers.get(number));
  timers.set(number, setTimeout(() => number.dispatchEvent(new Event('change', { bubbles: true })), QUIET_MS));
}

function nudge(event) {
  const number = event.target, by = { ArrowUp: 1, ArrowDown: -1 }[event.key];
  if (!by || !number.matches('.dial .number[data-step]')) return;
  event.preventDefault();
  const step = Number(number.dataset.step) * (event.shiftKey ? COARSE : event.altKey ? FINE : 1);
  const wanted = rounded(Number(number.value || number.placeholder) + by * step, Number(number.dataset.step) * FINE);
  number.value = Math.min(Number(number.max), Math.max(Number(number.min), wanted));
  number.dispatchEvent(new Event('input', { bubbles: true }));
  changeSoon(number);
}

/** Everything is delegated, because htmx swaps the panel's content. */
export function connectDials() {
  prepare(document);
  document.body.addEventListener('htmx:afterSettle', (event) => prepare(event.detail.target ?? document));
  document.addEventListener('keydown', nudge);
  document.addEventListener('input', (event) => {
    const { slides } = event.target.dataset;
    if (slides) {
      const number = document.getElementById(slides);
      number.value = fromSlider(event.target.value, scaleOf(event.target));
      // What listens to the number while it is typed hears the slider too.
      if (number.hasAttribute('hx-get')) number.dispatchEvent(new Event('input', { bubbles: true }));
    } else if (event.target.matches('.dial .number')) {
      const slider = event.target.form.querySelector('[data-slides]');
      if (slider && event.target.value !== '') slider.value = toSlider(Number(event.target.value), scaleOf(slider));
    }
  });
  document.addEventListener('change', (event) => {
    const dial = event.target.closest?.('form.dial');
    if (!dial) return;
    clearTimeout(timers.get(event.target));
    dial.classList.remove('is-mixed');
    const reset = dial.querySelector('.reset');
    if (reset) reset.disabled = false;
  });
  // Enter keeps the value (the field's change has told of it), and does nothing else.
  document.addEventListener('submit', (event) => {
    const trigger = /** @type {HTMLFormElement} */ (event.target).getAttribute('hx-trigger');
    if (trigger && !trigger.includes('submit')) event.preventDefault();
  });
}
