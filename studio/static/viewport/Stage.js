import * as THREE from '../vendor/three/three.module.js';
import { OrbitControls } from '../vendor/three/jsm/controls/OrbitControls.js';
import { Ground } from './Ground.js';
import { isSoftware } from './webgl.js';

/** The 3D view: light, ground, camera, and drawing only when something changed. */
export class Stage {
  constructor(canvas) {
    this.canvas = canvas;
    this.renderer = new THREE.WebGLRenderer({ canvas, alpha: true, antialias: !isSoftware });
    this.renderer.setPixelRatio(isSoftware ? 1 : Math.min(window.devicePixelRatio, 2));
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.type = THREE.PCFShadowMap;
    this.scene = new THREE.Scene();
    this.camera = new THREE.PerspectiveCamera(28, 1, 0.01, 500);
    this.controls = new OrbitControls(this.camera, canvas);
    this.controls.enableDamping = false;
    this.controls.addEventListener('change', () => this.invalidate());
    this.frames = 0;
    this.onDraw = new Set();
    this._wanted = false;
    this._addLight();
    this.ground = new Ground();
    this.scene.add(this.ground.object);
    this._sizes = new ResizeObserver(() => this._resize());
    this._sizes.observe(canvas.parentElement);
    this._resize();
  }

  _addLight() {
    this.scene.add(new THREE.HemisphereLight(0xdfeaf2, 0xcdbb98, 2.3));
    this.key = new THREE.DirectionalLight(0xfff0d8, 2.7);
    this.key.castShadow = true;
    this.key.shadow.mapSize.set(1024, 1024);
    this.key.shadow.radius = 5;
    this.key.shadow.bias = -0.0006;
    this.key.shadow.normalBias = 0.02;
    const rim = new THREE.DirectionalLight(0xc9dcec, 0.7);
    rim.position.set(-3, 2.5, -4);
    this.scene.add(this.key, this.key.target, rim);
  }

  /** Look at a box from the front left, and let light and ground fit it. */
  look(box) {
    const centre = box.getCenter(new THREE.Vector3()), size = box.getSize(new THREE.Vector3());
    const radius = Math.max(size.length() / 2, 1e-4);
    const vertical = THREE.MathUtils.degToRad(this.camera.fov) / 2;
    const reach = Math.min(vertical, Math.atan(Math.tan(vertical) * this.camera.aspect));
    // What is tall must still fit in; what is long may come close.
    const tall = (0.58 * size.y) / Math.tan(vertical) + 0.4 * Math.hypot(size.x, size.z);
    const distance = Math.max((radius / Math.sin(reach)) * 0.74, tall);
    const direction = new THREE.Vector3(0.72, 0.30, 0.78).normalize();
    this.camera.near = radius / 50; this.camera.far = radius * 60;
    this.camera.position.copy(centre).addScaledVector(direction, distance);
    this.camera.updateProjectionMatrix();
    this.controls.target.copy(centre);
    this.controls.minDistance = radius / 20; this.controls.maxDistance = radius * 20;
    this.controls.update();
    this.key.position.copy(centre).add(new THREE.Vector3(1.1, 2.2, 1.5).multiplyScalar(radius * 1.6));
    this.key.target.position.copy(centre);
    const shadow = this.key.shadow.camera;
    shadow.left = shadow.bottom = -radius * 1.7; shadow.right = shadow.top = radius * 1.7;
    shadow.near = radius * 0.2; shadow.far = radius * 12;
    shadow.updateProjectionMatrix();
    this.ground.fit(centre, box.min.y, radius);
    this.invalidate();
  }

  /** Ask for one drawing at the browser's next chance. */
  invalidate() {
    if (this._wanted) return;
    this._wanted = true;
    requestAnimationFrame((now) => { this._wanted = false; this._draw(now); });
  }

  _draw(now) {
    for (const draw of this.onDraw) draw(now);
    this.renderer.render(this.scene, this.camera);
    this.frames += 1;
  }

  _resize() {
    const { clientWidth: width, clientHeight: height } = this.canvas.parentElement;
    if (!width || !height) return;
    this.renderer.setSize(width, height, false);
    this.camera.aspect = width / height;
    this.camera.updateProjectionMatrix();
    this.invalidate();
  }

  dispose() {
    this._sizes.disconnect();
    this.controls.dispose();
    this.renderer.dispose();
  }
}
