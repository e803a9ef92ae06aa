// @ts-check
/** Dropping a file anywhere on the library page brings it in, with word of how far it is. */
const form = /** @type {HTMLFormElement} */ (document.getElementById('upload'));
const input = /** @type {HTMLInputElement} */ (document.getElementById('file'));
const note = /** @type {HTMLElement} */ (form.querySelector('.upload-note'));
const refused = /** @type {HTMLElement} */ (document.getElementById('refused'));
const WORDS = { waiting: 'waiting until another file is read …', reading: 'reading …' };

async function send() {
  const file = input.files?.[0];
  if (!file) { note.textContent = 'Choose a file first.'; return; }
  refused.replaceChildren();
  note.textContent = `“${file.name}”: sending …`;
  try {
    const response = await fetch(form.action, { method: 'POST', credentials: 'same-origin', body: new FormData(form), headers: { Accept: 'application/x-ndjson' } });
    if (!response.body || !response.headers.get('Content-Type')?.startsWith('application/x-ndjson')) { showPage(await response.text()); return; }
    await hear(response.body.pipeThrough(new TextDecoderStream()).getReader(), file.name);
  } catch (error) {
    note.textContent = `“${file.name}” could not be sent: ${error instanceof Error ? error.message : error}.`;
  }
}

/** What the app says while it reads: lines of JSON.
 * @param {ReadableStreamDefaultReader<string>} reader @param {string} name */
async function hear(reader, name) {
  let pending = '';
  for (;;) {
    const { done, value } = await reader.read();
    pending += value ?? '';
    const lines = pending.split('\n');
    pending = lines.pop() ?? '';
    for (const line of lines.filter(Boolean)) {
      const said = JSON.parse(line);
      if (said.url) { window.location.assign(said.url); return; }
      if (said.refused) { refused.innerHTML = said.refused; note.textContent = ''; form.reset(); return; }
      note.textContent = `“${name}”: ${WORDS[/** @type {'waiting' | 'reading'} */ (said.step)]}`;
    }
    if (done) { note.textContent = `“${name}”: the app stopped reading it. Try again.`; return; }
  }
}

/** What was refused at once comes as a whole page.
 * @param {string} html */
function showPage(html) {
  const page = new DOMParser().parseFromString(html, 'text/html');
  refused.replaceChildren(...(page.getElementById('refused')?.childNodes ?? []));
  note.textContent = '';
  form.reset();
}

form.addEventListener('submit', (event) => { event.preventDefault(); send(); });
input.addEventListener('change', () => { if (input.files?.length) send(); });
for (const name of ['dragenter', 'dragover']) {
  document.addEventListener(name, (event) => { event.preventDefault(); form.classList.add('is-over'); });
}
document.addEventListener('dragleave', (event) => { if (!event.relatedTarget) form.classList.remove('is-over'); });
document.addEventListener('drop', (event) => {
  event.preventDefault();
  form.classList.remove('is-over');
  const files = event.dataTransfer?.files;
  if (files?.length !== 1) { note.textContent = 'Drop one file at a time.'; return; }
  input.files = files;
  send();
});
