// @ts-check
import { connectReading } from './reading.js';

/** The sheet of a sweep: all its small pictures show the same frame, played or held. */
const sheet = /** @type {HTMLElement} */ (document.querySelector('.sweep-sheet'));
const play = /** @type {HTMLButtonElement} */ (document.getElementById('sheet-play'));
const slider = /** @type {HTMLInputElement} */ (document.getElementById('sheet-frame'));
let began = performance.now(), isPlaying = !matchMedia('(prefers-reduced-motion: reduce)').matches;

const count = () => Number(slider.max) + 1;
const rate = () => Number(sheet.dataset.rate);

/** @param {number} number */
function show(number) {
  for (const each of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll('[data-strip]'))) {
    if (!each.style.backgroundImage) each.style.backgroundImage = `url("${each.dataset.strip}")`;
    each.style.backgroundPositionY = `${-number * each.clientHeight}px`;
  }
}

function setPlaying(/** @type {boolean} */ wanted) {
  isPlaying = wanted;
  play.textContent = wanted ? 'Hold' : 'Play';
  play.setAttribute('aria-pressed', String(wanted));
  began = performance.now() - (1000 * Number(slider.value)) / rate();
}

function tick() {
  if (isPlaying) slider.value = String(Math.floor(((performance.now() - began) / 1000) * rate()) % count());
  show(Number(slider.value));
  requestAnimationFrame(tick);
}

play.addEventListener('click', () => setPlaying(!isPlaying));
slider.addEventListener('input', () => { setPlaying(false); show(Number(slider.value)); });
// What was drawn meanwhile may have more pictures than what was there first.
document.body.addEventListener('htmx:beforeSwap', (event) => {
  const page = new DOMParser().parseFromString(/** @type {CustomEvent} */ (event).detail.xhr.responseText, 'text/html').querySelector('.sweep-sheet');
  if (page instanceof HTMLElement) {
    sheet.dataset.rate = page.dataset.rate;
    slider.max = String(Number(page.dataset.pictures) - 1);
  }
});
connectReading();
setPlaying(isPlaying);
tick();
