/** Colours the skin by how deep it clips in the frame that is shown; asks the app for it whenever the stage stands still. */
export class DepthView {
  constructor(desk, player, note) { Object.assign(this, { desk, player, note, isOn: false, shown: '', asked: '' }); }

  show(isOn) {
    this.isOn = isOn;
    this.shown = this.asked = '';
    if (!isOn) { this.desk.view.influence.showDepths([], null); this.note(''); }
    else if (!this.desk.takeId) this.note('No take yet: run one, and the depth of what clips is shown.');
  }

  /** Called with each drawing: another frame, or another take, is asked for once. */
  update(frame) {
    const { desk } = this;
    if (!this.isOn) return;
    const at = Math.round(frame), key = `${desk.takeId}/${at}/${desk.take?.loaded}/${desk.shown}`;
    const isAsking = !this.player.isPlaying && !desk.brush?.isOn && !desk.poke?.isOn && desk.take?.has(at);
    if (!isAsking) { if (this.shown) { desk.view.influence.showDepths([], null); this.note(''); this.shown = this.asked = ''; } return; }
    if (key !== this.asked) { this.asked = key; this._ask(key, at); }
  }

  async _ask(key, frame) {
    const response = await fetch(`/takes/${this.desk.takeId}/depth?frame=${frame}&shown=${this.desk.shown}`, { credentials: 'same-origin', headers: { 'HX-Request': 'true' } });
    if (key !== this.asked || !this.isOn || !response.ok) return;
    const { meshes, worst, full } = await response.json();
    if (key !== this.asked || !this.isOn) return;
    const levels = {};
    for (const [part, text] of Object.entries(meshes)) levels[part] = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
    this.desk.view.influence.showDepths(this.desk.view.parts, levels);
    this.shown = key;
    this.note(Object.keys(meshes).length ? `Deepest here: ${worst.toFixed(1)} mm; plum is ${full} mm or more.` : 'No layer of this take meets anything.');
    this.desk.stage.invalidate();
  }
}
