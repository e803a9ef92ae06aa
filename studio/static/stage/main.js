import { Stage, canDraw } from './Stage.js';
import { CharacterView } from './CharacterView.js';
import { FrameStore } from './FrameStore.js';
import { JointQuills } from './JointQuills.js';
import { Player } from './Player.js';
import { Score } from './Score.js';
import { pickJoint } from './maths/picking.js';
import { readFrames } from './frameStream.js';
import { connectPanel, showChosen } from './panel.js';
import { connectKeys } from './keys.js';
import { Brush } from './Brush.js';
import { LatticeView } from './LatticeView.js';
import { ColliderHand } from './ColliderHand.js';
import { ClipMark } from './ClipMark.js';
import { Poke } from './Poke.js';
import { PointPicker } from './PointPicker.js';
import { DepthView } from './DepthView.js';

const element = document.getElementById('stage');
const announce = (name, detail = {}) => document.body.dispatchEvent(new CustomEvent(name, { detail }));
const byId = (id) => document.getElementById(id);

/** Everything that is shown now. `desk` on the window lets a test look at it. */
const desk = {
  shown: 'simulated', clip: null, take: null, previousTake: null, takeId: null, clipUrl: null, wantedTake: '',
  view: null, quills: null, brush: null, lattice: null, colliders: null, clipMark: null, poke: null, picker: null, depth: null, solidLook: { wire: false, paper: false, skin: false, cut: 1 }, partNames: [], stage: null, buffer: null, isReady: false, firstFrameMs: null,
};
window.desk = desk;

const score = new Score(byId('score'), (frame, spot) => {
  player.play(false);
  if (spot) desk.clipMark?.mark(spot.part, spot.vertex, frame);
  player.go(frame);
});
const player = new Player(showFrame, (isPlaying) => {
  const button = document.querySelector('[data-act="play"]');
  button.textContent = isPlaying ? 'Hold' : 'Play';
  button.setAttribute('aria-pressed', String(isPlaying));
  if (isPlaying && !desk.stage) requestAnimationFrame(tickWithoutStage);
  desk.stage?.invalidate();
});
desk.player = player;

function showFrame(frame) {
  score.show(frame);
  if (document.activeElement !== byId('frame')) byId('frame').value = Math.round(frame);
  desk.stage?.invalidate();
}

function tickWithoutStage(now) {
  player.advance(now);
  if (player.isPlaying) requestAnimationFrame(tickWithoutStage);
}

/** The take to use at a frame: the new one where it has arrived, the one before it elsewhere. */
function takeAt(frame) {
  if (desk.shown === 'keyed') return null;
  if (desk.take?.has(frame)) return desk.take;
  return desk.previousTake?.has(frame) ? desk.previousTake : null;
}

function draw(now) {
  player.advance(now);
  const { view, quills, stage } = desk;
  if (view) {
    view.pose(player.frame, desk.clip, desk.poke.store ?? takeAt(player.frame));
    view.poseGhost(player.frame, desk.clip);
    quills.update(stage.camera);
    desk.lattice?.update();
    desk.colliders.update();
    desk.picker.update();
    desk.depth.update(player.frame);
    desk.clipMark.update(stage.camera, player.frame);
  }
  if (player.isPlaying) stage.invalidate();
}

async function refresh() {
  const query = desk.wantedTake ? `?take=${desk.wantedTake}` : '';
  const state = await (await fetch(element.dataset.state + query, { credentials: 'same-origin' })).json();
  desk.partNames = state.parts;
  const range = state.take ?? { first: 0, last: state.clip.frames - 1 };
  byId('frame-count').textContent = ` of ${range.last}`;
  byId('frame').max = range.last;
  player.setRange(range.first, range.last - range.first + 1, state.frameRate);
  if (state.clip.url !== desk.clipUrl) {
    desk.clipUrl = state.clip.url;
    desk.clip = await loadClip(state.clip.url);
  }
  if (state.take && state.take.id !== desk.takeId) openTake(state.take);
  if (!state.take) { desk.take = desk.previousTake = desk.takeId = null; desk.quills?.simulated.clear(); }
  announce('take-changed');
  desk.stage?.invalidate();
}

async function loadClip(url) {
  let store = null;
  await readFrames(url, undefined, { onHeader: (header) => { store = new FrameStore(header); }, onChunk: (body) => store.add(body), onEnd: () => {} });
  return store;
}

let streaming = null, lastAnnounced = 0;

async function openTake(take) {
  streaming?.abort();
  streaming = new AbortController();
  const began = performance.now();
  desk.takeId = take.id;
  if (desk.take?.loaded) desk.previousTake = desk.take;
  desk.take = null;
  desk.firstFrameMs = null;
  try {
    await readFrames(take.url, streaming.signal, {
      onHeader: (header) => { desk.take = new FrameStore(header); if (desk.quills) desk.quills.simulated = new Set(header.rotated); },
      onChunk: (body) => {
        desk.take.add(body);
        desk.firstFrameMs ??= performance.now() - began;
        if (performance.now() - lastAnnounced > 400) { lastAnnounced = performance.now(); announce('take-changed'); }
        desk.stage?.invalidate();
      },
      onEnd: (facts) => { desk.ended = facts; announce('take-changed'); announce('take-ended'); desk.stage?.invalidate(); },
    });
  } catch (error) {
    if (error.name !== 'AbortError') note(`The take's frames stopped coming: ${error.message}. Reload the page to see it whole.`);
  }
}

function note(text) {
  const line = byId('stage-note');
  line.textContent = text;
  line.hidden = !text;
}

function joint(action, index, goesOn = false) {
  if (!desk.view) return;
  if (action === 'choose') {
    desk.quills.chosen = index;
    showChosen(index, desk.view.names[index], goesOn ? 'further' : 'only');
  } else desk.quills.hovered = index;
  const shown = desk.quills.hovered >= 0 ? desk.quills.hovered : -1;
  desk.view.influence.show(shown >= 0 ? desk.view.nodes[shown] : null);
  desk.stage.invalidate();
}

function connectPointer(canvas) {
  let down = null;
  const under = (event) => {
    if (!desk.quills?.object.visible || desk.brush?.isOn || desk.poke?.isOn || desk.picker?.isOn) return -1;
    const box = canvas.getBoundingClientRect();
    const points = desk.quills.project(desk.stage.camera, box.width, box.height);
    return pickJoint(event.clientX - box.left, event.clientY - box.top, points, desk.view.links, desk.view.joints);
  };
  canvas.addEventListener('pointermove', (event) => {
    if (event.buttons) return;
    const index = under(event), label = byId('joint-label');
    if (index !== desk.quills?.hovered) joint('hover', index);
    label.hidden = index < 0;
    if (index >= 0) {
      const box = element.getBoundingClientRect();
      label.textContent = desk.view.names[index];
      label.style.left = `${event.clientX - box.left}px`; label.style.top = `${event.clientY - box.top}px`;
    }
    canvas.style.cursor = index < 0 ? 'grab' : 'pointer';
  });
  canvas.addEventListener('pointerleave', () => { byId('joint-label').hidden = true; joint('hover', -1); });
  canvas.addEventListener('pointerdown', (event) => { down = [event.clientX, event.clientY]; });
  canvas.addEventListener('pointerup', (event) => {
    if (!down || Math.hypot(event.clientX - down[0], event.clientY - down[1]) > 4) return;
    const index = under(event);
    if (index >= 0) joint('choose', index, event.shiftKey);
  });
}

/** What takes a press on the stage, the first before the others; a press that none takes turns the view. */
function connectHands(canvas) {
  desk.picker = new PointPicker(desk);
  desk.poke = new Poke(desk, { note, hold: () => player.play(false), onChange: showQuills });
  desk.colliders = new ColliderHand(desk, { announce });
  desk.brush = new Brush(desk, { note, onPainted: () => { announce('region-painted'); desk.wantedTake = ''; refresh(); } });
  desk.clipMark = new ClipMark(desk.view, desk.quills.size);
  desk.stage.scene.add(desk.clipMark.object, desk.picker.object);
  const hands = [desk.picker, desk.poke, desk.colliders, desk.brush];
  element.addEventListener('pointerdown', (event) => {
    if (event.target !== canvas || !hands.some((hand) => hand.down(event))) return;
    event.stopPropagation();
    canvas.setPointerCapture(event.pointerId);
  }, true);
  canvas.addEventListener('pointermove', (event) => hands.forEach((hand) => hand.move(event)));
  for (const end of ['pointerup', 'pointercancel']) canvas.addEventListener(end, () => hands.forEach((hand) => hand.up()));
}

/** What the brush's panel asks of it, and what follows the panel. */
function connectBrush() {
  document.addEventListener('click', (event) => {
    const command = event.target.closest?.('[data-spot]')?.dataset.spot;
    if (command) desk.brush.begin(command);
  });
  document.addEventListener('input', (event) => {
    const now = byId(`${event.target.id}-now`);
    if (now) now.textContent = event.target.value;
  });
  document.body.addEventListener('htmx:afterSettle', (event) => { if (event.detail.target?.id === 'panel') { desk.brush.follow().then(showQuills); showLattice(); desk.colliders.follow(); } });
}

const acts = {
  play: () => player.play(), back: () => player.step(-1), ahead: () => player.step(1),
  start: () => { player.play(false); player.go(player.first); }, end: () => { player.play(false); player.go(player.last); },
  frame: () => desk.view && desk.stage.look(desk.view.box(desk.clip)), help: () => byId('help').showModal(),
  poke: () => desk.poke?.toggle(), undo: () => byId('undo')?.click(), redo: () => byId('redo')?.click(),
};

async function show(what) {
  desk.shown = what;
  for (const button of document.querySelectorAll('[data-show]')) button.setAttribute('aria-pressed', String(button.dataset.show === what));
  await desk.view?.showGhost(what === 'both', desk.buffer);
  desk.stage?.invalidate();
}

function look(name) {
  const button = document.querySelector(`[data-look="${name}"]`);
  const isOn = button.getAttribute('aria-pressed') !== 'true';
  button.setAttribute('aria-pressed', String(isOn));
  if (name === 'joints') showQuills();
  else if (name === 'depth') { desk.depth?.show(isOn); desk.stage?.invalidate(); }
  else desk.view?.setLook(name, isOn);
  desk.stage?.invalidate();
}

/** Show the inside of the volume whose dials are open, as the buttons say; called again when the setup or the panel changed. */
async function showLattice() {
  const field = byId('lattice'), wants = desk.solidLook;
  for (const button of document.querySelectorAll('[data-solid]')) button.setAttribute('aria-pressed', String(wants[button.dataset.solid]));
  if (byId('solid-cut')) byId('solid-cut').value = 100 * wants.cut;
  const isWanted = field && (wants.wire || wants.paper || wants.skin);
  const response = isWanted && desk.view ? await fetch(field.dataset.lattice) : null;
  const body = response?.ok ? await response.arrayBuffer() : null;
  desk.lattice?.dispose();
  desk.lattice = null;
  if (body) {
    desk.lattice = new LatticeView(desk.view, body, wants);
    desk.stage.scene.add(desk.lattice.object);
    byId('lattice-facts').textContent = `${desk.lattice.fixed.toLocaleString('en')} of ${desk.lattice.nodes.toLocaleString('en')} nodes fixed`;
  } else if (byId('lattice-facts')) byId('lattice-facts').textContent = isWanted && !desk.view ? 'It needs the stage.' : '';
  desk.view?.setGlassy(Boolean(desk.lattice && wants.paper));
  desk.stage?.invalidate();
}

/** Joints would lie on top of what is painted. */
function showQuills() {
  if (!desk.quills) return;
  const isOn = document.querySelector('[data-look="joints"]').getAttribute('aria-pressed') === 'true';
  desk.quills.object.visible = isOn && !desk.brush?.isOn && !desk.poke?.isOn;
  desk.stage.invalidate();
}

function connectControls() {
  document.addEventListener('click', (event) => {
    const button = event.target.closest('button');
    if (button?.dataset.act) acts[button.dataset.act]();
    if (button?.dataset.show) show(button.dataset.show);
    if (button?.dataset.look) look(button.dataset.look);
    if (button?.dataset.pick !== undefined) desk.picker?.toggle(button.form);
    if (button?.dataset.poke) desk.poke?.choose(button.dataset.poke);
    if (button?.dataset.solid) { desk.solidLook[button.dataset.solid] = !desk.solidLook[button.dataset.solid]; showLattice(); }
  });
  document.addEventListener('input', (event) => {
    if (event.target.id === 'solid-cut') { desk.solidLook.cut = event.target.value / 100; desk.stage?.invalidate(); }
  });
  byId('loop').addEventListener('change', (event) => { player.loops = event.target.checked; });
  byId('every-frame').addEventListener('change', (event) => { player.everyFrame = event.target.checked; });
  byId('frame').addEventListener('change', (event) => { player.play(false); player.go(Number(event.target.value)); });
  document.body.addEventListener('setup-changed', () => { desk.wantedTake = ''; refresh(); if (desk.lattice) showLattice(); });
  document.body.addEventListener('take-wanted', (event) => { desk.wantedTake = event.detail.take; refresh(); });
  document.body.addEventListener('htmx:afterSettle', () => { if (desk.quills && desk.quills.chosen >= 0) showChosen(desk.quills.chosen, desk.view.names[desk.quills.chosen], 'again'); });
  document.body.addEventListener('htmx:sendError', () => note('The app does not answer. Is it still running?'));
  document.body.addEventListener('htmx:configRequest', (event) => {
    // The score follows the take that is looked at.
    if (desk.wantedTake && event.target.id === 'score') event.detail.parameters.take = desk.wantedTake;
  });
  let before = 0;
  setInterval(() => {
    const frames = desk.stage?.frames ?? 0;
    byId('fps').textContent = player.isPlaying ? `${frames - before} fps` : '';
    before = frames;
  }, 1000);
}

async function start() {
  connectControls();
  connectKeys(acts, show, look);
  connectPanel({ onJoint: joint, frameNow: () => player.frame });
  if (!canDraw()) {
    byId('no-webgl').hidden = false;
    byId('canvas').hidden = byId('poke').hidden = true;
    await refresh();
    desk.isReady = true;
    return;
  }
  note('Bringing the character onto the stage …');
  try {
    desk.stage = new Stage(byId('canvas'));
    desk.buffer = await (await fetch(element.dataset.source, { credentials: 'same-origin' })).arrayBuffer();
    desk.view = await CharacterView.load(desk.buffer);
  } catch (error) {
    note(`The character cannot be drawn: ${error.message}`);
    desk.view = null;
    await refresh();
    desk.isReady = true;
    return;
  }
  desk.stage.scene.add(desk.view.scene);
  const rest = desk.view.box(null);
  desk.quills = new JointQuills(desk.view, rest.max.distanceTo(rest.min));
  desk.stage.scene.add(desk.quills.object);
  await refresh();
  desk.stage.look(desk.view.box(desk.clip));
  desk.stage.onDraw.add(draw);
  desk.depth = new DepthView(desk, player, note);
  connectPointer(byId('canvas'));
  connectHands(byId('canvas'));
  connectBrush();
  await desk.brush.follow();
  await desk.colliders.follow();
  showQuills();
  note('');
  desk.isReady = true;
  desk.stage.invalidate();
}

start();
