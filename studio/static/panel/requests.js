/** What every request of this page says of itself: its tab, the setup version that it shows, and the token that lets it change anything. */
export const tab = Math.random().toString(36).slice(2);

/** The setup version that the page shows; '' where none is. */
export function shownVersion() { return document.getElementById('history')?.dataset.version ?? ''; }

/** Headers for requests that htmx does not make. */
export function ownHeaders() {
  const token = JSON.parse(document.body.getAttribute('hx-headers') ?? '{}');
  return { 'Content-Type': 'application/json', 'HX-Request': 'true', 'X-Tab': tab, 'X-Setup-Version': shownVersion(), ...token };
}

/** Show what a refused request answered, or take an old message away. */
export async function showAnswer(response) {
  const messages = document.getElementById('messages');
  if (response.ok) messages.replaceChildren();
  else messages.innerHTML = await response.text();
}

/** Let htmx say the same. */
export function connectRequests() {
  document.body.addEventListener('htmx:configRequest', (event) => {
    event.detail.headers['X-Tab'] = tab;
    event.detail.headers['X-Setup-Version'] = shownVersion();
  });
  // What shows itself anew when a job ends waits while something is typed into it.
  document.body.addEventListener('htmx:beforeRequest', (event) => {
    const panel = document.getElementById('panel'), typing = document.activeElement?.matches('input:not([type]), input[type="text"], textarea') && panel?.contains(document.activeElement);
    if (typing && event.detail.requestConfig.triggeringEvent?.type.endsWith('-ended')) event.preventDefault();
  });
  // A panel that shows itself anew and was left meanwhile must not come back over the one that took its place.
  document.body.addEventListener('htmx:beforeSwap', (event) => {
    const { elt, verb } = /** @type {CustomEvent} */ (event).detail.requestConfig;
    if (verb === 'get' && elt.hidden && !document.body.contains(elt)) event.detail.shouldSwap = false;
  });
  // What was refused is no longer true once another change went through.
  document.body.addEventListener('htmx:afterRequest', (event) => {
    const { successful, requestConfig } = event.detail;
    if (successful && requestConfig.verb !== 'get') document.getElementById('messages').replaceChildren();
  });
}
