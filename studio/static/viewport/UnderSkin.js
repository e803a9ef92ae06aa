import * as THREE from '../vendor/three/three.module.js';

const ORIGIN = 0x3f6c8c, INSERTION = 0xd9a02b, REST = new THREE.Color(0x7a5a4a), PULLED = new THREE.Color(0x3a0d10);
/** Size of the dots of attachments [pixels]. */
const DOT = 5;

/** What is under the skin: muscles by how they are pulled, bones, strokes along the fibres, and what holds the muscles' ends. */
export class UnderSkin {
  /** @param {import('./CharacterView.js').CharacterView} view @param {{muscles: object[], bones: number[]}} looks what the server tells */
  constructor(view, looks) {
    this.view = view;
    this.looks = looks;
    this.object = new THREE.Group();
    this.wants = { skin: false, fibres: false, ends: false };
    this.parts = new Set([...looks.muscles.map(({ mesh }) => mesh), ...looks.bones]);
    this.muscles = looks.muscles.map((muscle) => this._muscle(muscle));
  }

  /** Whether there is anything to show. */
  get isEmpty() { return !this.looks.muscles.length; }

  _muscle(muscle) {
    const strokes = new THREE.LineSegments(positions(2 * muscle.strokes.length), new THREE.LineBasicMaterial({ color: REST.getHex(), transparent: true, opacity: 0.85 }));
    const origin = dots(muscle.origin.length, ORIGIN), insertion = dots(muscle.insertion.length, INSERTION);
    for (const shown of [strokes, origin, insertion]) { shown.frustumCulled = false; shown.renderOrder = 6; this.object.add(shown); }
    return { ...muscle, strokesView: strokes, originView: origin, insertionView: insertion };
  }

  /** Say what is wanted; the skin is thinned where it hides anything. */
  show(wants) {
    this.wants = { ...this.wants, ...wants };
    const { skin, fibres, ends } = this.wants, isOpen = skin || fibres || ends;
    this.view.setOpened(isOpen, this.parts);
    this.view.influence.showPulls(this.view.parts, isOpen ? this.parts : null);
  }

  /** Follow the pose; ``pullOf(layer, muscle)`` says how strongly one is pulled, 0..1. */
  update(pullOf) {
    const { skin, fibres, ends } = this.wants;
    this.object.visible = fibres || ends;
    if (!(skin || fibres || ends)) return;
    const posed = new Map();
    for (const muscle of this.muscles) {
      const part = this.view.parts[muscle.mesh], pull = pullOf(muscle.layer, muscle.muscle);
      this._tint(part, muscle.vertices, pull);
      muscle.strokesView.visible = fibres; muscle.originView.visible = muscle.insertionView.visible = ends;
      if (!fibres && !ends) continue;
      if (!posed.has(part)) posed.set(part, this.view.posed(part));
      const places = posed.get(part);
      if (fibres) this._draw(muscle, places, pull);
      if (ends) for (const end of ['origin', 'insertion']) pick(muscle[`${end}View`], muscle[end], places);
    }
  }

  _tint(part, vertices, pull) {
    const { level } = part.geometry.attributes;
    if (level.array[vertices[0]] === pull) return;
    for (const v of vertices) level.array[v] = pull;
    level.needsUpdate = true;
  }

  _draw(muscle, places, pull) {
    const target = muscle.strokesView.geometry.attributes.position;
    muscle.strokesView.material.color.copy(REST).lerp(PULLED, pull);
    muscle.strokes.forEach((row, at) => {
      for (let axis = 0; axis < 3; axis++) {
        let begin = 0, end = 0;
        for (let k = 0; k < 3; k++) { const place = places[3 * row[k] + axis]; begin += row[3 + k] * place; end += row[6 + k] * place; }
        target.array[6 * at + axis] = begin; target.array[6 * at + 3 + axis] = end;
      }
    });
    target.needsUpdate = true;
  }

  dispose() {
    this.show({ skin: false, fibres: false, ends: false });
    this.view.setOpened(false, null);
    this.object.removeFromParent();
    for (const muscle of this.muscles) for (const shown of [muscle.strokesView, muscle.originView, muscle.insertionView]) { shown.geometry.dispose(); shown.material.dispose(); }
  }
}

function positions(count) {
  return new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(3 * count), 3).setUsage(THREE.DynamicDrawUsage));
}

function dots(count, color) {
  return new THREE.Points(positions(count), new THREE.PointsMaterial({ color, size: DOT, sizeAttenuation: false, depthTest: false }));
}

function pick(points, vertices, places) {
  const target = points.geometry.attributes.position;
  vertices.forEach((vertex, at) => { for (let axis = 0; axis < 3; axis++) target.array[3 * at + axis] = places[3 * vertex + axis]; });
  target.needsUpdate = true;
}
