import { DepthView } from '../viewport/DepthView.js';
import { SpotMark } from '../viewport/SpotMark.js';
import { Brush } from './Brush.js';
import { ColliderTool } from './ColliderTool.js';
import { JointDrag } from './JointDrag.js';
import { PointPicker } from './PointPicker.js';
import { Poke } from './Poke.js';

const byId = (id) => document.getElementById(id);
/** A press that moves further than that is no click [pixels]. */
const CLICK = 4;

/** What the pointer does on the stage: the first tool that takes a press has it; a press that none takes turns the view. */
export class Tools {
  constructor(viewport, store, { element, player, takes, note, joint, spot, announce, onChange, onPainted }) {
    this.viewport = viewport;
    this.element = element;
    this.joint = joint;
    this.spot = spot;
    this.jointDrag = new JointDrag(viewport);
    this.picker = new PointPicker(viewport, store);
    this.poke = new Poke(viewport, { note, hold: () => player.play(false), frameNow: () => player.frame, onChange });
    this.colliders = new ColliderTool(viewport, { announce });
    this.brush = new Brush(viewport, store, { note, onPainted });
    this.clipMark = new SpotMark(viewport.view, viewport.size);
    /** Where what the panel speaks of is. */
    this.place = new SpotMark(viewport.view, viewport.size);
    this.depth = new DepthView(viewport, store, { player, takes, note, isBusy: () => this.brush.isOn || this.poke.isOn });
    viewport.add(this.clipMark.object, this.place.object, this.picker.object);
    this._pressing = [this.picker, this.poke, this.colliders, this.brush, this.jointDrag];
    this._connect(viewport.canvas);
  }

  /** Take up what the panel asks for. */
  async follow() {
    await this.brush.follow();
    await this.colliders.follow();
  }

  /** Called with each drawing. */
  update(frame) {
    this.colliders.update();
    this.picker.update();
    this.depth.update(frame);
    this.clipMark.update(this.viewport.stage.camera, frame);
    this.place.update(this.viewport.stage.camera, frame);
  }

  _connect(canvas) {
    let down = null;
    this.element.addEventListener('pointerdown', (event) => {
      if (event.target !== canvas) return;
      const taker = this._pressing.find((tool) => tool.down(event));
      // A press on a joint may be a click, which chooses it, or a drag.
      down = !taker || taker === this.jointDrag ? [event.clientX, event.clientY] : null;
      if (taker) {
        event.stopPropagation();
        canvas.setPointerCapture(event.pointerId);
      }
    }, true);
    canvas.addEventListener('pointermove', (event) => {
      if (!event.buttons) this._hover(event, canvas);
      for (const tool of this._pressing) tool.move(event);
    });
    canvas.addEventListener('pointerleave', () => { byId('joint-label').hidden = true; this.joint('hover', -1); });
    for (const end of ['pointerup', 'pointercancel']) canvas.addEventListener(end, () => { for (const tool of this._pressing) tool.up(); });
    canvas.addEventListener('pointerup', (event) => {
      if (!down || Math.hypot(event.clientX - down[0], event.clientY - down[1]) > CLICK) return;
      const index = this._jointUnder(event, this.viewport.quills.chosen);
      if (index >= 0) this.joint('choose', index, event.shiftKey);
      else if (!this._isTaken) this.spot(this.viewport.vertexUnder(event));
    });
  }

  /** Whether a tool has the pointer for itself. */
  get _isTaken() { return this.brush.isOn || this.poke.isOn || this.picker.isOn; }

  _jointUnder(event, after = -1) { return this._isTaken ? -1 : this.viewport.jointUnder(event, after); }

  _hover(event, canvas) {
    const index = this._jointUnder(event), label = byId('joint-label'), { quills, view } = this.viewport;
    if (index !== quills.hovered) this.joint('hover', index);
    label.hidden = index < 0;
    if (index >= 0) {
      const box = this.element.getBoundingClientRect();
      label.textContent = view.names[index];
      label.style.left = `${event.clientX - box.left}px`; label.style.top = `${event.clientY - box.top}px`;
    }
    canvas.style.cursor = index < 0 ? 'grab' : 'pointer';
  }
}
