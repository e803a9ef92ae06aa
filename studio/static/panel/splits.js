/** Borders that are dragged, or moved by arrow keys: the panel's width and the score's height, remembered on this machine. */
const BORDERS = {
  panel: { property: '--panel', low: 360, high: 640, usual: () => (window.innerWidth < 1200 ? 360 : 400), room: () => window.innerWidth - 420 },
  score: { property: '--score', low: 90, high: 900, usual: () => Math.round(window.innerHeight * 0.33), room: () => window.innerHeight - 260 },
};
const STEP = 16;

const stored = (name) => Number(localStorage.getItem(`keen-${name}`)) || 0;

function sized(name, wanted) {
  const { low, high, room } = BORDERS[name];
  return Math.round(Math.max(low, Math.min(high, room(), wanted)));
}

function apply(name) {
  const { property, usual } = BORDERS[name], size = sized(name, stored(name) || usual());
  document.documentElement.style.setProperty(property, `${size}px`);
  const border = document.querySelector(`[data-split="${name}"]`);
  border.setAttribute('aria-valuenow', String(size));
  border.setAttribute('aria-valuemin', String(BORDERS[name].low));
  border.setAttribute('aria-valuemax', String(Math.min(BORDERS[name].high, BORDERS[name].room())));
  return size;
}

/** Let borders be moved; ``onChange`` is called after each move. */
export function connectSplits(onChange) {
  const set = (name, wanted) => { localStorage.setItem(`keen-${name}`, String(sized(name, wanted))); apply(name); onChange(); };
  for (const border of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll('[data-split]'))) {
    const name = border.dataset.split, isPanel = name === 'panel';
    border.addEventListener('pointerdown', (event) => { border.setPointerCapture(event.pointerId); event.preventDefault(); border.focus(); });
    border.addEventListener('pointermove', (event) => {
      if (border.hasPointerCapture(event.pointerId)) set(name, isPanel ? window.innerWidth - event.clientX : window.innerHeight - event.clientY);
    });
    border.addEventListener('dblclick', () => { localStorage.removeItem(`keen-${name}`); apply(name); onChange(); });
    border.addEventListener('keydown', (event) => {
      const by = { ArrowLeft: 1, ArrowUp: 1, ArrowRight: -1, ArrowDown: -1 }[event.key];
      if (!by || (isPanel ? event.key.endsWith('p') || event.key.endsWith('wn') : event.key.endsWith('ft') || event.key.endsWith('ht'))) return;
      event.preventDefault();
      event.stopPropagation();
      set(name, (stored(name) || BORDERS[name].usual()) + by * STEP);
    });
    apply(name);
  }
  window.addEventListener('resize', () => { for (const name of Object.keys(BORDERS)) apply(name); });
  fold(localStorage.getItem('keen-folded') === 'true');
}

/** Fold the score away, or show it; without ``isFolded`` the other way round. */
export function fold(isFolded = !document.body.classList.contains('is-folded')) {
  document.body.classList.toggle('is-folded', isFolded);
  localStorage.setItem('keen-folded', String(isFolded));
  const button = document.getElementById('fold');
  button.textContent = isFolded ? 'Show score' : 'Fold';
  button.setAttribute('aria-expanded', String(!isFolded));
}
