import { EventStream } from './events/EventStream.js';
import { connectDials } from './panel/dials.js';
import { connectKeys } from './panel/keys.js';
import { MeshSwitches } from './panel/meshes.js';
import { connectPanel, showChosen, showWeights } from './panel/panel.js';
import { connectReading } from './panel/reading.js';
import { connectRequests, tab } from './panel/requests.js';
import { connectHistory } from './panel/history.js';
import { connectSplits, fold } from './panel/splits.js';
import { Store } from './store/Store.js';
import { AmountKeys } from './timeline/AmountKeys.js';
import { FrameStore } from './timeline/FrameStore.js';
import { LayerList } from './timeline/LayerList.js';
import { Player } from './timeline/Player.js';
import { Score } from './timeline/Score.js';
import { Takes } from './timeline/Takes.js';
import { readMessages } from './timeline/frameStream.js';
import { Tools } from './tools/Tools.js';
import { LatticeView } from './viewport/LatticeView.js';
import { UnderSkin } from './viewport/UnderSkin.js';
import { PaperFigure } from './viewport/PaperFigure.js';
import { Viewport } from './viewport/Viewport.js';
import { canDraw } from './viewport/webgl.js';

const byId = (id) => document.getElementById(id);
const element = byId('stage');
const announce = (name, detail = {}) => document.body.dispatchEvent(new CustomEvent(name, { detail }));

const store = new Store({
  shown: 'simulated', wantedTake: new URLSearchParams(location.search).get('take') ?? '', besideTake: '', takeId: null, partNames: [], metresPerUnit: 1, isReady: false,
  solidLook: { wire: false, paper: false, skin: false, cut: 1 },
});
const takes = new Takes();
/** What is there of the page, once it is. A test may look at it. */
const app = { store, takes, viewport: null, tools: null, player: null, stream: null, clip: null, clipUrl: null, beforeId: null, lattice: null, underSkin: null, meshes: null, figure: null, restBox: null };
window.app = app;

const score = new Score(byId('score'), (frame, clip) => {
  player.play(false);
  if (clip) app.tools?.clipMark.mark(clip.part, clip.vertex, frame);
  player.go(frame);
});
const character = element.dataset.state.split('/')[2];
const layers = new LayerList(byId('score'), { character, onBusy: fillScore });
const amounts = new AmountKeys(byId('score'), character, { onBusy: fillScore });
const player = new Player(showFrame, (isPlaying) => {
  const button = document.querySelector('[data-act="play"]');
  button.textContent = isPlaying ? 'Hold' : 'Play';
  button.setAttribute('aria-pressed', String(isPlaying));
  if (isPlaying && !app.viewport) requestAnimationFrame(tickWithoutStage);
  app.viewport?.invalidate();
});
app.player = player;
store.follow(['takeId'], () => { markSimulated(); markTake(); });

function showFrame(frame) {
  score.show(frame);
  if (document.activeElement !== byId('frame')) byId('frame').value = Math.round(frame);
  app.viewport?.invalidate();
}

function tickWithoutStage(now) {
  player.advance(now);
  if (player.isPlaying) requestAnimationFrame(tickWithoutStage);
}

function draw(now) {
  player.advance(now);
  const { viewport, tools } = app, { takeId, shown } = store.state;
  const live = tools.poke.store, take = live ?? (shown === 'keyed' ? null : takes.at(takeId, app.beforeId, player.frame));
  const key = live ? `live ${tools.poke.shown}` : `${app.clipUrl}/${shown}/${takeId}/${take?.loaded}`;
  const beside = takes.frames(Number(store.state.besideTake)) ?? null;
  viewport.pose(player.frame, app.clip, take, key, beside);
  app.lattice?.update();
  app.underSkin?.update((layer, muscle) => (shown === 'keyed' ? 0 : score.pullOf(layer, muscle, player.frame)));
  if (app.figure.object.visible) app.figure.face(viewport.stage.camera);
  tools.update(player.frame);
  if (player.isPlaying) viewport.invalidate();
}

let takeAsked = 0, latest = null;

/** Ask what the stage should show. An answer that another one overtook is dropped; whoever waits, waits for the latest. */
function refresh() {
  latest = takeState(++takeAsked);
  return latest;
}

async function takeState(mine) {
  const query = store.state.wantedTake ? `?take=${store.state.wantedTake}` : '';
  const state = await (await fetch(element.dataset.state + query, { credentials: 'same-origin' })).json();
  if (mine !== takeAsked) return latest;
  store.set({ partNames: state.parts, metresPerUnit: state.metresPerUnit });
  const range = state.take ?? { first: 0, last: state.clip.frames - 1 };
  byId('frame-count').textContent = ` of ${range.last}`;
  byId('frame').max = range.last;
  player.setRange(range.first, range.last - range.first + 1, state.frameRate);
  if (state.clip.url !== app.clipUrl) {
    const clip = await loadClip(state.clip.url);
    if (mine !== takeAsked) return latest;
    app.clipUrl = state.clip.url;
    app.clip = clip;
  }
  showTake(state.take?.id ?? null);
  app.viewport?.invalidate();
  return undefined;
}

async function loadClip(url) {
  const response = await fetch(url, { credentials: 'same-origin' });
  if (!response.ok) throw new Error(`the frames did not come (${response.status})`);
  let frames = null;
  readMessages(new Uint8Array(await response.arrayBuffer()), {
    onFacts: (facts) => { if (!facts.end) frames = new FrameStore(facts); },
    onChunk: (body) => frames.add(body),
  });
  return frames;
}

/** Look at a take, its number as a text, or at the one that fits the setup (''). */
function lookAt(take) {
  store.set({ wantedTake: take });
  app.stream.look(take, store.state.besideTake);
  refresh();
}

/** Show a take, its number as a text, as the ghost of the one on the stage; '' the keyed clip again. */
function compare(beside) {
  store.set({ besideTake: beside });
  app.stream.look(store.state.wantedTake, beside);
  if (beside) show('both');
  listDifferences();
}

/** The Takes panel says in what the compared takes differ. */
function listDifferences() {
  const beside = store.state.besideTake;
  const query = beside ? `?beside=${beside}&take=${store.state.takeId ?? ''}` : '';
  window.htmx.ajax('GET', `/characters/${character}/takes/${query}`, { source: '#choose', target: '#panel', swap: 'innerHTML' });
}

/** Show another take; until its frames are there, those of the one before it. */
function showTake(id) {
  if (id === store.state.takeId) return;
  if (takes.frames(store.state.takeId)?.loaded) app.beforeId = store.state.takeId;
  store.set({ takeId: id });
  if (store.state.besideTake && document.querySelector('#panel .takes')) listDifferences();
}

function markSimulated() {
  if (app.viewport) app.viewport.quills.simulated = new Set(takes.frames(store.state.takeId)?.header.rotated ?? []);
}

/** The take that the stage shows is marked in the list of takes. */
function markTake() {
  for (const row of document.querySelectorAll('.take[data-row]')) {
    const isShown = Number(row.dataset.row) === store.state.takeId, button = row.querySelector('.show-take');
    row.classList.toggle('is-current', isShown);
    if (isShown) button.setAttribute('aria-current', 'true');
    else button.removeAttribute('aria-current');
  }
}

/** Put HTML that came over the stream where it belongs, unless it is there already. */
function fill(id, html) {
  const field = byId(id);
  if (field.dataset.html === html) return;
  field.dataset.html = html;
  field.innerHTML = html;
  window.htmx.process(field);
}

let latestScore = null, isPressed = false;

/** Show the lanes as they came last; not while one is dragged or renamed, and with the focus where it was. */
function fillScore() {
  if (latestScore === null || isPressed || layers.isBusy || amounts.isBusy) return;
  const held = byId('score').contains(document.activeElement) ? document.activeElement : null;
  const again = held && ['choose', 'switch', 'menu', 'fold', 'all'].find((name) => held.dataset[name] !== undefined);
  fill('score', latestScore);
  latestScore = null;
  markLayers();
  if (again) byId('score').querySelector(`[data-${again}="${CSS.escape(held.dataset[again])}"]`)?.focus();
  else if (held?.id) byId(held.id)?.focus();
}

/** What the panel shows is marked in the list of layers. */
function markLayers() {
  layers.mark();
  amounts.layout(layers.chosen);
  score.layout();
}

function connectStream() {
  app.stream = new EventStream(element.dataset.events, {
    onSetup: (event) => {
      lookAt('');
      if (event.tab !== tab) { announce('setup-elsewhere'); followMuscles(); }
    },
    onTake: (facts) => {
      fill('take-status', facts.status);
      latestScore = facts.score;
      fillScore();
      if (facts.take !== store.state.takeId) refresh();
    },
    onHeader: (id, header) => { takes.begin(id, header); if (id === store.state.takeId) markSimulated(); },
    onChunk: (id, body) => { takes.add(id, body); app.viewport?.invalidate(); },
    onEnd: (id, facts) => { takes.end(id, facts); app.viewport?.invalidate(); },
    onJob: ({ job }) => { ended.set(job, performance.now()); announce(`${job}-ended`); },
    onLine: (isThere) => { byId('no-line').hidden = isThere; },
  });
  // A link may name a take to look at.
  if (store.state.wantedTake) app.stream.look(store.state.wantedTake);
}

function note(text) {
  const line = byId('stage-note');
  line.textContent = text;
  line.hidden = !text;
}

/** A joint was pointed at or chosen, on the stage or in the tree. */
function joint(action, index, goesOn = false) {
  const { viewport } = app;
  if (!viewport) return;
  if (action === 'choose') {
    viewport.quills.chosen = index;
    showChosen(index, viewport.view.names[index], goesOn ? 'further' : 'only');
  } else viewport.quills.hovered = index;
  const shown = viewport.quills.hovered >= 0 ? viewport.quills.hovered : -1;
  viewport.view.influence.show(shown >= 0 ? viewport.view.nodes[shown] : null);
  viewport.invalidate();
}

/** The skin was clicked: which joints move this spot. */
function spot(hit) {
  if (hit) showWeights(app.viewport.view.weightsOf(app.viewport.view.parts[hit.mesh], hit.vertex).map(([node, weight]) => [node, app.viewport.view.names[node], weight]));
}

/** The paper figure stands beside the character on the Rig step. */
function showFigure() {
  const { figure } = app;
  figure.object.visible = Boolean(byId('rig-joints'));
  if (!figure.object.visible) return;
  figure.stand(app.restBox, store.state.metresPerUnit);
  app.viewport.invalidate();
}

const acts = {
  play: () => player.play(), back: () => player.step(-1), ahead: () => player.step(1),
  start: () => { player.play(false); player.go(player.first); }, end: () => { player.play(false); player.go(player.last); },
  frame: () => app.viewport?.lookAtAll(app.clip), help: () => byId('help').showModal(),
  poke: () => app.tools?.poke.toggle(), add: () => window.htmx.ajax('GET', `/characters/${character}/motion/new/`, { source: '#choose', target: '#panel', swap: 'innerHTML' }),
  fold: () => fold(), scale: () => score.toggleScale(), next: () => goAround(1), previous: () => goAround(-1), undo: () => byId('undo')?.click(), redo: () => byId('redo')?.click(),
};

/** The focus goes from stage to panel to score and around. */
function goAround(by) {
  const areas = ['stage', 'panel', 'score'], at = areas.findIndex((id) => byId(id).contains(document.activeElement));
  byId(areas[(Math.max(at, by < 0 ? 0 : -1) + by + 3) % 3]).focus();
}

async function show(what) {
  store.set({ shown: what });
  for (const button of document.querySelectorAll('[data-show]')) button.setAttribute('aria-pressed', String(button.dataset.show === what));
  await app.viewport?.view.showGhost(what === 'both', app.viewport.file);
  app.viewport?.invalidate();
}

function look(name) {
  const button = document.querySelector(`[data-look="${name}"]`);
  const isOn = button.getAttribute('aria-pressed') !== 'true';
  button.setAttribute('aria-pressed', String(isOn));
  if (name === 'joints') showQuills();
  else if (name === 'depth') app.tools?.depth.show(isOn);
  else app.viewport?.view.setLook(name, isOn);
  app.viewport?.invalidate();
}

/** When a job of each kind ended last, and when the panel was asked for last: what ended in between, the panel does not know. */
const ended = new Map();
let panelAsked = 0;

function tellWhatEnded() {
  const asked = panelAsked;
  for (const [job, at] of ended) if (at > asked) announce(`${job}-ended`);
}

let latticeAsked = 0;

/** Show the inside of the soft volume whose dials are open, as the buttons say; called again when the setup or the panel changed. */
async function showLattice() {
  const field = byId('lattice'), wants = store.state.solidLook, mine = ++latticeAsked;
  for (const button of document.querySelectorAll('[data-solid]')) button.setAttribute('aria-pressed', String(wants[button.dataset.solid]));
  if (byId('solid-cut')) byId('solid-cut').value = 100 * wants.cut;
  const isWanted = field && (wants.wire || wants.paper || wants.skin);
  const response = isWanted && app.viewport ? await fetch(field.dataset.lattice) : null;
  const body = response?.ok ? await response.arrayBuffer() : null;
  if (mine !== latticeAsked) return;
  app.lattice?.dispose();
  app.lattice = null;
  if (body) {
    app.lattice = new LatticeView(app.viewport.view, body, wants);
    app.viewport.add(app.lattice.object);
    byId('lattice-facts').textContent = `${app.lattice.fixed.toLocaleString('en')} of ${app.lattice.nodes.toLocaleString('en')} nodes fixed`;
  } else if (byId('lattice-facts')) byId('lattice-facts').textContent = isWanted && !app.viewport ? 'This needs WebGL.' : '';
  app.viewport?.view.setGlassy(Boolean(app.lattice && wants.paper));
  app.viewport?.invalidate();
}

const underWants = { skin: false, fibres: false, ends: false };
let underAsked = 0;

/** Show or hide muscles and bones ('skin'), fibres, or what holds the ends. */
function under(name) {
  if (!app.underSkin || app.underSkin.isEmpty) return;
  underWants[name] = !underWants[name];
  if (name === 'skin' && !underWants.skin) underWants.fibres = underWants.ends = false;
  if (name !== 'skin' && underWants[name]) underWants.skin = true;
  showUnder();
}

function showUnder() {
  for (const button of document.querySelectorAll('[data-under]')) button.setAttribute('aria-pressed', String(underWants[button.dataset.under]));
  app.underSkin?.show(underWants);
  app.meshes?.show();
  app.viewport?.invalidate();
}

/** Mark on the stage where what an element of the panel speaks of is: "part vertex", or "" for nothing. */
function markPlace(where = '') {
  const [part, vertex] = (where || '-1 0').split(' ').map(Number);
  app.tools?.place.mark(part, vertex);
  app.viewport?.invalidate();
}

/** Ask anew which muscles there are: the setup changed. */
async function followMuscles() {
  const mine = ++underAsked;
  if (!app.viewport) return;
  const response = await fetch(element.dataset.looks, { credentials: 'same-origin' });
  const looks = response.ok ? await response.json() : { muscles: [], bones: [] };
  if (mine !== underAsked) return;
  app.underSkin?.dispose();
  app.viewport.view.setMade(looks.made ?? []);
  app.underSkin = new UnderSkin(app.viewport.view, looks);
  app.viewport.add(app.underSkin.object);
  for (const button of document.querySelectorAll('.stage-tools [data-under]')) button.hidden = app.underSkin.isEmpty;
  showUnder();
}

/** Joints would lie on top of what is painted or poked. */
function showQuills() {
  if (!app.viewport) return;
  const isOn = document.querySelector('[data-look="joints"]').getAttribute('aria-pressed') === 'true';
  app.viewport.quills.object.visible = isOn && !app.tools?.brush.isOn && !app.tools?.poke.isOn;
  app.viewport.invalidate();
}

/** The panel was swapped: what belongs to it on the stage follows. */
async function followPanel() {
  tellWhatEnded();
  markLayers();
  markTake();
  if (app.viewport?.quills.chosen >= 0) showChosen(app.viewport.quills.chosen, app.viewport.view.names[app.viewport.quills.chosen], 'again');
  if (!app.tools) return;
  app.meshes.show();
  showFigure();
  showLattice();
  showUnder();
  markPlace(document.querySelector('#panel details[data-where][open]')?.dataset.where);
  await app.tools.follow();
  showQuills();
}

function connectControls() {
  document.addEventListener('click', (event) => {
    const button = event.target.closest('button');
    if (button?.dataset.act) acts[button.dataset.act]();
    if (button?.dataset.beside !== undefined) compare(button.dataset.beside);
    if (button?.dataset.hideMesh) { app.meshes?.toggle(Number(button.dataset.hideMesh)); app.viewport?.invalidate(); }
    if (button?.dataset.onlyMesh) { app.meshes?.only(Number(button.dataset.onlyMesh)); app.viewport?.invalidate(); }
    if (button?.id === 'own-scale') acts.scale();
    if (button?.dataset.show) show(button.dataset.show);
    if (button?.dataset.look) look(button.dataset.look);
    if (button?.dataset.pick !== undefined) app.tools?.picker.toggle(button.form);
    if (button?.dataset.poke) app.tools?.poke.choose(button.dataset.poke);
    if (button?.dataset.spot) app.tools?.brush.begin(button.dataset.spot);
    if (button?.dataset.under) under(button.dataset.under);
    if (button?.dataset.where) {
      const isOn = button.getAttribute('aria-pressed') !== 'true';
      for (const other of document.querySelectorAll('button[data-where]')) other.setAttribute('aria-pressed', String(isOn && other === button));
      markPlace(isOn ? button.dataset.where : '');
    }
    if (button?.dataset.solid) { store.state.solidLook[button.dataset.solid] = !store.state.solidLook[button.dataset.solid]; showLattice(); }
  });
  document.addEventListener('toggle', ({ target }) => { if (target instanceof HTMLDetailsElement && target.dataset.where) markPlace(target.open ? target.dataset.where : ''); }, true);
  document.addEventListener('input', (event) => {
    if (event.target.id === 'solid-cut') { store.state.solidLook.cut = event.target.value / 100; app.viewport?.invalidate(); }
    const now = byId(`${event.target.id}-now`);
    if (now) now.textContent = event.target.value;
  });
  byId('loop').addEventListener('change', (event) => { player.loops = event.target.checked; });
  byId('every-frame').addEventListener('change', (event) => { player.everyFrame = event.target.checked; });
  byId('frame').addEventListener('change', (event) => { player.play(false); player.go(Number(event.target.value)); });
  document.body.addEventListener('setup-changed', (event) => {
    lookAt('');
    for (const card of document.querySelectorAll('.ring')) card.classList.add('is-stale');
    // What comes of the change is known before the stage has asked.
    if (event.detail.take) showTake(event.detail.take);
    if (app.lattice) showLattice();
    followMuscles();
  });
  document.body.addEventListener('take-wanted', (event) => lookAt(event.detail.take));
  document.body.addEventListener('htmx:afterSettle', (event) => { if (event.detail.target?.id === 'panel') followPanel(); else if (event.detail.target?.closest?.('#panel')) tellWhatEnded(); });
  document.body.addEventListener('panel-restored', followPanel);
  document.body.addEventListener('htmx:beforeRequest', (event) => { if (event.detail.target?.id === 'panel' || event.detail.target?.closest?.('#panel')) panelAsked = performance.now(); });
  document.body.addEventListener('htmx:sendError', () => note('The app does not answer. Is it still running?'));
  document.body.addEventListener('setup-elsewhere', () => {
    const panel = byId('panel');
    // What is being typed is not taken away.
    if (!panel.contains(document.activeElement) || !document.activeElement.matches('input[type="text"], textarea, input:not([type])')) {
      window.htmx.ajax('GET', location.pathname + location.search, { target: '#panel' });
    }
  });
  let before = 0;
  setInterval(() => {
    const frames = app.viewport?.stage.frames ?? 0;
    byId('fps').textContent = player.isPlaying ? `${frames - before} fps` : '';
    before = frames;
  }, 1000);
}

async function start() {
  connectRequests();
  connectDials();
  // What is replaced between press and release is never clicked.
  byId('score').addEventListener('pointerdown', () => { isPressed = true; }, true);
  for (const end of ['pointerup', 'pointercancel']) addEventListener(end, () => { isPressed = false; setTimeout(fillScore); });
  connectSplits(() => { score.layout(); app.viewport?.invalidate(); });
  connectControls();
  connectHistory(() => announce('panel-restored'));
  connectKeys(acts, show, look, under);
  connectReading();
  connectPanel({ onJoint: joint, frameNow: () => player.frame });
  connectStream();
  if (!canDraw) {
    byId('no-webgl').hidden = false;
    document.body.classList.add('is-without-stage');
    byId('canvas').hidden = byId('poke').hidden = true;
    await refresh();
    store.set({ isReady: true });
    return;
  }
  note('Loading the character …');
  try {
    const file = await (await fetch(element.dataset.source, { credentials: 'same-origin' })).arrayBuffer();
    app.viewport = await Viewport.open(/** @type {HTMLCanvasElement} */ (byId('canvas')), file);
  } catch (error) {
    note(`The character cannot be drawn: ${error.message}`);
    await refresh();
    store.set({ isReady: true });
    return;
  }
  await refresh();
  markSimulated();
  app.viewport.lookAtAll(app.clip);
  app.restBox = app.viewport.view.box(null);
  app.figure = new PaperFigure();
  app.viewport.add(app.figure.object);
  app.meshes = new MeshSwitches(character, app.viewport.view);
  store.follow(['metresPerUnit'], showFigure);
  await followMuscles();
  app.tools = new Tools(app.viewport, store, {
    element, player, takes, note, joint, spot, announce, onChange: showQuills,
    onPainted: () => { announce('region-painted'); lookAt(''); },
  });
  showFigure();
  app.viewport.stage.onDraw.add(draw);
  await app.tools.follow();
  showQuills();
  note('');
  store.set({ isReady: true });
  app.viewport.invalidate();
}

start();
