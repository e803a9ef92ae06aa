import * as THREE from '../vendor/three/three.module.js';
import { CharacterView } from './CharacterView.js';
import { JointQuills } from './JointQuills.js';
import { PickTrees } from './PickTrees.js';
import { Stage } from './Stage.js';
import { pickJoint } from './maths/picking.js';

/** The stage with the character on it: what tools ask of the scene, and nothing of the page. */
export class Viewport {
  /** @param {HTMLCanvasElement} canvas @param {ArrayBuffer} file the character's */
  static async open(canvas, file) {
    const stage = new Stage(canvas);
    try {
      return new Viewport(stage, await CharacterView.load(file), file);
    } catch (error) {
      stage.dispose();
      throw error;
    }
  }

  /** @param {Stage} stage @param {CharacterView} view @param {ArrayBuffer} file */
  constructor(stage, view, file) {
    this.stage = stage;
    this.view = view;
    this.file = file;
    stage.scene.add(view.scene);
    const rest = view.box(null);
    /** The character's size, corner to corner. */
    this.size = rest.max.distanceTo(rest.min);
    this.quills = new JointQuills(view, this.size);
    stage.scene.add(this.quills.object);
    this.trees = new PickTrees(view);
    /** Stands for the pose that is drawn: whoever keeps something of a pose keeps this with it. */
    this.poseKey = '';
  }

  get canvas() { return this.stage.canvas; }

  add(...objects) { this.stage.scene.add(...objects); }

  invalidate() { this.stage.invalidate(); }

  /** Pose the character: the clip's frames, then the take's, and the ghost.
   * @param {number} frame @param {object | null} clip @param {object | null} take @param {string} key stands for clip and take
   * @param {object | null} beside the take that the ghost shows, the keyed clip without one */
  pose(frame, clip, take, key, beside = null) {
    this.view.pose(frame, clip, take);
    this.view.poseGhost(frame, clip, beside);
    this.quills.update(this.stage.camera);
    this.poseKey = `${frame}/${key}`;
  }

  /** The ray from the eye through a pointer event. */
  rayThrough(event) {
    const box = this.canvas.getBoundingClientRect(), caster = new THREE.Raycaster();
    caster.setFromCamera(new THREE.Vector2(((event.clientX - box.left) / box.width) * 2 - 1, 1 - ((event.clientY - box.top) / box.height) * 2), this.stage.camera);
    return caster.ray;
  }

  /** What of the character is under a pointer event, as it stands now: {mesh, vertex, point}, or null; ``isThrough`` a thinned skin. */
  vertexUnder(event, isThrough = false) {
    const ray = this.rayThrough(event), inner = this.view.isOpened ? this.view.inner : null;
    return (isThrough && inner && this._vertexOn(ray, (part) => inner.has(part))) || this._vertexOn(ray, () => true);
  }

  _vertexOn(ray, counts) {
    let nearest = null;
    this.view.parts.forEach((part, mesh) => {
      if (!part.visible || !counts(part)) return;
      const tree = this.trees.of(part, this.poseKey), hit = tree.raycastFirst(ray, THREE.DoubleSide);
      if (!hit || nearest && hit.distance > nearest.distance) return;
      const positions = tree.geometry.attributes.position.array, corners = [hit.face.a, hit.face.b, hit.face.c];
      const away = corners.map((v) => hit.point.distanceTo(new THREE.Vector3().fromArray(positions, 3 * v)));
      nearest = { mesh, vertex: corners[away.indexOf(Math.min(...away))], point: hit.point, distance: hit.distance };
    });
    return nearest;
  }

  /** The joint under a pointer event, or -1; of several on one spot the one after ``after``, or that one again where it ``stays``. */
  jointUnder(event, after = -1, stays = false) {
    if (!this.quills.object.visible) return -1;
    const box = this.canvas.getBoundingClientRect(), points = this.quills.project(this.stage.camera, box.width, box.height);
    const found = pickJoint(event.clientX - box.left, event.clientY - box.top, points, this.view.links, this.view.joints);
    if (found < 0 || after < 0) return found;
    const next = pickJoint(event.clientX - box.left, event.clientY - box.top, points, this.view.links, this.view.joints, undefined, after);
    return stays && next !== found ? after : next;
  }

  lookAtAll(clip) { this.stage.look(this.view.box(clip)); }
}
