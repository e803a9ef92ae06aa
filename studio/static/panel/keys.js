/** The keyboard. Typing in a field is never taken for a command. */
export function connectKeys(acts, show, look, under) {
  const plain = {
    ' ': acts.play, ArrowLeft: acts.back, ArrowRight: acts.ahead, Home: acts.start, End: acts.end, f: acts.frame, p: acts.poke, a: acts.add, s: acts.scale, l: acts.fold, '?': acts.help,
    1: () => show('keyed'), 2: () => show('simulated'), 3: () => show('both'),
    j: () => look('joints'), x: () => look('xray'), w: () => look('wire'), d: () => look('depth'), u: () => under('skin'),
  };
  document.addEventListener('keydown', (event) => {
    if (event.key === 'F6') { event.preventDefault(); (event.shiftKey ? acts.previous : acts.next)(); return; }
    const isTyping = event.target.matches('input:not([type="checkbox"]):not([type="range"]), select, textarea');
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z' && !isTyping) {
      event.preventDefault();
      (event.shiftKey ? acts.redo : acts.undo)();
      return;
    }
    if (isTyping || event.ctrlKey || event.metaKey || event.altKey || document.querySelector('dialog[open]')) return;
    const isOnButton = event.target.matches('button, summary, a');
    if (event.key === ' ' && isOnButton) return;
    const act = plain[event.key] ?? plain[event.key.toLowerCase()];
    if (act) { event.preventDefault(); act(); }
  });
}
