/** Dropping a file anywhere on the library page brings it in; removing asks first. */
const form = document.getElementById('upload');
const input = document.getElementById('file');
const note = form.querySelector('.upload-note');

const send = () => {
  note.textContent = `Reading “${input.files[0].name}” …`;
  form.requestSubmit();
};

input.addEventListener('change', () => { if (input.files.length) send(); });
for (const name of ['dragenter', 'dragover']) {
  document.addEventListener(name, (event) => { event.preventDefault(); form.classList.add('is-over'); });
}
document.addEventListener('dragleave', (event) => { if (!event.relatedTarget) form.classList.remove('is-over'); });
document.addEventListener('drop', (event) => {
  event.preventDefault();
  form.classList.remove('is-over');
  if (event.dataTransfer.files.length !== 1) { note.textContent = 'Drop one file at a time.'; return; }
  input.files = event.dataTransfer.files;
  send();
});
for (const removal of document.querySelectorAll('form[data-asks]')) {
  removal.addEventListener('submit', (event) => { if (!window.confirm(removal.dataset.asks)) event.preventDefault(); });
}
