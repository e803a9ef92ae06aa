/**
 * The heads of the lanes are the list of layers: chosen by click and keys, ordered by dragging, renamed in place, with a menu for the rest.
 * What is chosen stands in the panel of the Motion step; elsewhere the first click leads there.
 */
const DRAG_PIXELS = 6;

export class LayerList {
  /** @param {HTMLElement} element the score @param {{ character: string, onBusy: () => void }} options */
  constructor(element, { character, onBusy }) {
    this.element = element;
    this.base = `/characters/${character}/motion/`;
    this.onBusy = onBusy;
    this.isBusy = this._wasDragged = false;
    /** @type {Set<string>} */
    this.folded = new Set();
    /** @type {string[]} */
    this._wanted = [];
    this._marked = '';
    this._foldKey = `keen-folded-${character}`;
    for (const name of JSON.parse(localStorage.getItem(this._foldKey) ?? '[]')) this.folded.add(name);
    this.menu = document.getElementById('layer-menu');
    element.addEventListener('click', (event) => this._click(event));
    element.addEventListener('pointerdown', (event) => this._down(event));
    element.addEventListener('keydown', (event) => this._key(event));
    this.menu.addEventListener('click', (event) => this._do(event.target.closest('[data-do]')?.dataset.do));
    this.menu.querySelector('form').addEventListener('submit', (event) => {
      event.preventDefault();
      this._close();
      this.post(this._wanted, 'group', /** @type {HTMLInputElement} */ (this.menu.querySelector('[name=group]')).value);
    });
  }

  get heads() { return [...this.element.querySelectorAll('[data-choose]')]; }

  /** The ids that the panel shows the dials of; [] on other steps. */
  get chosen() { return document.getElementById('chosen-layers')?.dataset.ids.split(',').filter(Boolean) ?? []; }

  /** Mark what is chosen and what is folded; after the lanes or the panel came anew. */
  mark() {
    const { chosen } = this, isNew = chosen.join() !== this._marked;
    this._marked = chosen.join();
    for (const head of this.heads) {
      const isChosen = chosen.includes(head.dataset.choose);
      head.setAttribute('aria-pressed', String(isChosen));
      head.closest('.lane-label').classList.toggle('is-chosen', isChosen);
      if (isChosen && isNew) head.scrollIntoView({ block: 'nearest' });
    }
    // How its muscles are pulled is seen while a layer is chosen.
    for (const row of this.element.querySelectorAll('[data-pull-of]')) row.hidden = !chosen.includes(row.dataset.pullOf);
    for (const part of this.element.querySelectorAll('[data-group]')) {
      const isFolded = this.folded.has(part.dataset.group);
      if (part.classList.contains('group-head')) part.querySelector('.fold').setAttribute('aria-expanded', String(!isFolded));
      else part.hidden = Boolean(part.dataset.group) && isFolded;
    }
  }

  /** Show the dials of some layers. */
  choose(ids) {
    return window.htmx.ajax('GET', `${this.base}?layer=${ids.join(',')}`, { source: '#choose', target: '#panel', swap: 'innerHTML' });
  }

  /** Change some layers; where their panel is open it comes with the answer. */
  post(ids, action, value = '', path = 'change') {
    const where = this.chosen.length ? { target: '#panel', swap: 'innerHTML' } : { source: '#score', target: '#score', swap: 'none' };
    const shown = action === 'duplicate' || ids.some((id) => this.chosen.includes(id)) ? '' : this.chosen.join(',');
    return window.htmx.ajax('POST', `${this.base}${path === 'all' ? '' : `${ids.join(',')}/`}${path}/`, { ...where, values: { action, value, chosen: shown, on: value } });
  }

  /** What a command on one layer is for: all that are chosen, if it is one of them. */
  _with(id) { return this.chosen.includes(id) ? this.chosen : [id]; }

  _click(event) {
    const { choose, switch: switched, menu, fold, all } = event.target.closest('button')?.dataset ?? {};
    if (choose && !this._wasDragged) this._pick(choose, event);
    if (switched) this.post(switched.split(','), 'switch');
    if (menu) this._open(menu, event.target.getBoundingClientRect());
    if (all) this.post(this.chosen, '', all, 'all');
    if (fold) this._fold(fold);
    this._wasDragged = false;
  }

  _pick(id, event) {
    const { chosen } = this, all = this.heads.map((head) => head.dataset.choose);
    let ids = [id];
    if (event.ctrlKey || event.metaKey) ids = chosen.includes(id) ? chosen.filter((each) => each !== id) : [...chosen, id];
    else if (event.shiftKey && chosen.length) {
      const [from, to] = [all.indexOf(chosen[0]), all.indexOf(id)].sort((a, b) => a - b);
      ids = all.slice(from, to + 1);
    }
    this.choose(ids.length ? ids : [id]);
  }

  _fold(name) {
    if (!this.folded.delete(name)) this.folded.add(name);
    localStorage.setItem(this._foldKey, JSON.stringify([...this.folded]));
    this.mark();
  }

  _open(id, box) {
    this._wanted = this._with(id);
    const item = (name) => /** @type {HTMLElement} */ (this.menu.querySelector(`[data-do="${name}"]`));
    item('rename').hidden = this._wanted.length > 1;
    item('link').hidden = this._wanted.length < 2;
    this.menu.showPopover();
    const { width, height } = this.menu.getBoundingClientRect();
    this.menu.style.left = `${Math.min(box.left, window.innerWidth - width - 8)}px`;
    this.menu.style.top = `${Math.max(8, Math.min(box.bottom, window.innerHeight - height - 8))}px`;
    /** @type {HTMLElement} */ (this.menu.querySelector('[role="menuitem"]:not([hidden])')).focus();
  }

  _close() { this.menu.hidePopover(); }

  async _do(action) {
    if (!action) return;
    this._close();
    if (action === 'rename') this.rename(this._wanted[0]);
    else if (action === 'mirror') {
      if (!this.chosen.length) await this.choose(this._wanted);
      window.htmx.ajax('POST', `${this.base}${this._wanted.join(',')}/mirror/`, { target: '#panel', swap: 'innerHTML' });
    } else this.post(this._wanted, action);
  }

  _key(event) {
    const id = event.target.dataset?.choose;
    if (!id) return;
    const at = this.heads.indexOf(event.target), by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (by && event.altKey) this.post(this._with(id), by < 0 ? 'up' : 'down');
    else if (by) this.heads[at + by]?.focus();
    else if (event.key === 'F2') this.rename(id);
    else if (event.key === 'Delete') this.post(this._with(id), 'remove');
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** Type another name in place; Escape leaves the old one. */
  rename(id) {
    const head = this.heads.find((each) => each.dataset.choose === id);
    if (!head) return;
    const field = document.createElement('input'), before = head.textContent;
    Object.assign(field, { className: 'input is-small', value: before, maxLength: 200 });
    field.setAttribute('aria-label', `Name of ${before}`);
    head.replaceWith(field);
    field.select();
    this.isBusy = true;
    const end = (isKept) => {
      if (!this.isBusy) return;
      this.isBusy = false;
      field.replaceWith(head);
      head.focus();
      if (isKept && field.value.trim() !== before) this.post([id], 'rename', field.value);
      this.onBusy();
    };
    field.addEventListener('keydown', (event) => {
      event.stopPropagation();
      if (event.key !== 'Enter' && event.key !== 'Escape') return;
      // Else the same key would press the name that has the focus next.
      event.preventDefault();
      end(event.key === 'Enter');
    });
    field.addEventListener('blur', () => end(true));
  }

  _down(event) {
    const head = event.target.closest('[data-choose]');
    if (!head || event.button) return;
    const drag = { id: head.dataset.choose, y: event.clientY, before: undefined, line: null };
    const move = (moved) => {
      if (!drag.line && Math.abs(moved.clientY - drag.y) < DRAG_PIXELS) return;
      this.isBusy = true;
      drag.line ??= this._line();
      drag.before = this._placeAt(moved.clientY, drag.line);
    };
    const up = () => {
      removeEventListener('pointermove', move);
      removeEventListener('pointerup', up);
      removeEventListener('pointercancel', up);
      if (!drag.line) return;
      drag.line.remove();
      this.isBusy = false;
      this._wasDragged = true;
      setTimeout(() => { this._wasDragged = false; });
      if (drag.before !== undefined) this.post(this._with(drag.id), 'before', drag.before);
      this.onBusy();
    };
    addEventListener('pointermove', move);
    addEventListener('pointerup', up);
    addEventListener('pointercancel', up);
  }

  _line() {
    const line = document.createElement('div');
    line.className = 'drop-line';
    this.element.querySelector('.lanes').append(line);
    return line;
  }

  /** The id of the layer in front of which what is dragged would go, '' for the end; the line shows where. */
  _placeAt(y, line) {
    const rows = this.heads.map((head) => head.closest('.lane-label')).filter((row) => !row.hidden);
    const next = rows.find((row) => { const box = row.getBoundingClientRect(); return y < box.top + box.height / 2; });
    const top = this.element.querySelector('.lanes').getBoundingClientRect().top, last = rows.at(-1).getBoundingClientRect();
    line.style.top = `${(next ? next.getBoundingClientRect().top : last.bottom) - top - 1}px`;
    return next?.dataset.layer ?? '';
  }
}
