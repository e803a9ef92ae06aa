/** Small helpers for the side panel; everything is delegated, because htmx swaps the panel's content. */
export function connectPanel({ onJoint, frameNow }) {
  document.addEventListener('change', (event) => {
    if (event.target.dataset.submits !== undefined) event.target.form.submit();
    // A dial that is chosen to be swept brings its range.
    if (event.target.dataset.fills !== undefined) {
      const select = /** @type {HTMLSelectElement} */ (event.target), row = select.closest('p').nextElementSibling;
      const { low, high } = select.selectedOptions[0].dataset;
      if (low !== undefined) for (const [name, value] of Object.entries({ low, high })) row.querySelector(`[name="${name}"]`).value = value;
    }
    // What the filter hides is not ticked.
    if (event.target.dataset.ticks) for (const box of document.querySelectorAll(`${event.target.dataset.ticks} li:not([hidden]) > input[type="checkbox"]`)) box.checked = event.target.checked;
  });
  document.addEventListener('input', (event) => {
    const { filters } = event.target.dataset;
    if (!filters) return;
    const wanted = event.target.value.trim().toLowerCase();
    for (const item of document.querySelectorAll(`${filters} li`)) item.hidden = !item.textContent.toLowerCase().includes(wanted);
  });
  document.addEventListener('pointerover', (event) => {
    const row = event.target.closest?.('[data-joint]');
    onJoint('hover', row ? Number(row.dataset.joint) : -1);
  });
  document.addEventListener('click', (event) => {
    const row = event.target.closest('[data-joint]');
    if (row) onJoint('choose', Number(row.dataset.joint), event.shiftKey);
    const take = event.target.closest('[data-take]');
    if (take) document.body.dispatchEvent(new CustomEvent('take-wanted', { detail: { take: take.dataset.take } }));
  });
  document.addEventListener('focusin', (event) => {
    if (event.target.dataset.takesFrame !== undefined && event.target.value === '') event.target.value = Math.round(frameNow());
  });
}

/**
 * Mark the chosen joint in the tree and put its name where a name is asked for: in place of what is there ('only'), after
 * it ('further'), or only where nothing is yet ('again', after the panel was swapped) and
 * the field does not wait for a click.
 */
export function showChosen(joint, name, how) {
  for (const row of document.querySelectorAll('[data-joint]')) {
    const isChosen = Number(row.dataset.joint) === joint;
    row.classList.toggle('is-chosen', isChosen);
    row.setAttribute('aria-pressed', String(isChosen));
    if (isChosen && how !== 'again') row.scrollIntoView({ block: 'nearest' });
  }
  for (const input of document.querySelectorAll('[data-takes-joint]')) {
    if (how === 'further' && input.value) input.value += `, ${name}`;
    else if (how !== 'again' || (!input.value && !input.dataset.takesJoint)) input.value = name;
  }
}

/** Say which joints move a spot of the skin, as [node, name, weight]; each can be chosen. */
export function showWeights(weights) {
  const line = document.getElementById('spot-joints');
  if (!line) return;
  line.replaceChildren(weights.length ? 'This spot is moved by ' : 'No joint moves this spot.');
  weights.forEach(([node, name, weight], index) => {
    const button = document.createElement('button');
    Object.assign(button, { type: 'button', className: 'quiet', textContent: `${name} ${Math.round(100 * weight)} %` });
    button.dataset.joint = String(node);
    if (index) line.append(', ');
    line.append(button);
  });
}
