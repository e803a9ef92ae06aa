/** Back and forward change the panel alone: the stage and the score stay as they are. */
export function connectHistory(onRestored) {
  document.body.addEventListener('htmx:historyRestore', () => {
    for (const link of document.querySelectorAll('.steps a')) {
      if (new URL(link.href).pathname === location.pathname) link.setAttribute('aria-current', 'step');
      else link.removeAttribute('aria-current');
    }
    onRestored();
  });
}
