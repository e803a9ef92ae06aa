// @ts-check
const CHANGING = ['[hx-post]', 'form[hx-post] :is(input, select, textarea, button)', 'form[method="post"]:not(.may-look) :is(input, select, textarea, button)'].join(',');

/** For whom a character is shared to look at: what would change it is switched off, also where it comes new into the page. */
export function connectReading() {
  if (document.body.dataset.readsOnly === undefined) return;
  const switchOff = () => {
    for (const each of document.querySelectorAll(CHANGING)) if ('disabled' in each) each.disabled = true;
  };
  switchOff();
  new MutationObserver(switchOff).observe(document.body, { childList: true, subtree: true });
}
