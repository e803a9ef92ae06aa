/** Colours the skin by how deep it clips in the frame that is shown; asks the app for it whenever the stage stands still. */
export class DepthView {
  constructor(viewport, store, { player, takes, isBusy, note }) {
    this.viewport = viewport;
    this.store = store;
    this.player = player;
    this.takes = takes;
    this.isBusy = isBusy;
    this.note = note;
    this.isOn = false;
    this.shown = '';
    this.asked = '';
  }

  show(isOn) {
    this.isOn = isOn;
    this.shown = this.asked = '';
    if (!isOn) { this.viewport.view.influence.showDepths([], null); this.note(''); }
    else if (this.store.state.takeId === null) this.note('No take yet. Run one to see its penetration.');
  }

  /** Called with each drawing: another frame, or another take, is asked for once. */
  update(frame) {
    if (!this.isOn) return;
    const { takeId, shown } = this.store.state, frames = this.takes.frames(takeId);
    const at = Math.round(frame), key = `${takeId}/${at}/${frames?.loaded}/${shown}`;
    const isAsking = !this.player.isPlaying && !this.isBusy() && frames?.has(at);
    if (!isAsking) { if (this.shown) { this.viewport.view.influence.showDepths([], null); this.note(''); this.shown = this.asked = ''; } return; }
    if (key !== this.asked) { this.asked = key; this._ask(key, at); }
  }

  async _ask(key, frame) {
    const response = await fetch(`/takes/${this.store.state.takeId}/depth?frame=${frame}&shown=${this.store.state.shown}`, { credentials: 'same-origin', headers: { 'HX-Request': 'true' } });
    if (key !== this.asked || !this.isOn || !response.ok) return;
    const { meshes, worst, full } = await response.json();
    if (key !== this.asked || !this.isOn) return;
    const levels = {};
    for (const [part, text] of Object.entries(meshes)) levels[part] = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
    this.viewport.view.influence.showDepths(this.viewport.view.parts, levels);
    this.shown = key;
    this.note(Object.keys(meshes).length ? `Deepest here: ${worst.toFixed(1)} mm; plum is ${full} mm or more.` : 'No layer of this take collides with anything.');
    this.viewport.invalidate();
  }
}
