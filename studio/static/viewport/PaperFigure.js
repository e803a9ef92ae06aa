import * as THREE from '../vendor/three/three.module.js';

const TALL = 1.7, WIDE = 0.85, PIXELS = 512;

/** A cut-paper figure of a grown-up with a tide staff, 1.70 m high, that stands beside the character to show how large that is. */
export class PaperFigure {
  constructor() {
    const material = new THREE.MeshLambertMaterial({ map: drawn(), transparent: true, alphaTest: 0.4, side: THREE.DoubleSide });
    this.object = new THREE.Mesh(new THREE.PlaneGeometry(WIDE, TALL).translate(0, TALL / 2, 0), material);
    this.object.castShadow = true;
    this.object.visible = false;
  }

  /** Stand it beside a box, in a scene of so many metres a unit. */
  stand(box, metresPerUnit) {
    const scale = 1 / metresPerUnit, gap = 0.15 * (box.max.x - box.min.x) + 0.5 * WIDE * scale;
    this.object.scale.setScalar(scale);
    this.object.position.set(box.max.x + gap, box.min.y, (box.min.z + box.max.z) / 2);
  }

  /** Turn it towards the eye, upright. */
  face(camera) {
    const { position } = this.object;
    this.object.rotation.y = Math.atan2(camera.position.x - position.x, camera.position.z - position.z);
  }

  dispose() {
    this.object.geometry.dispose();
    this.object.material.map.dispose();
    this.object.material.dispose();
  }
}

/** A coat, a hood, a staff with a mark every half a metre. */
function drawn() {
  const canvas = document.createElement('canvas'), tall = PIXELS, wide = Math.round((PIXELS * WIDE) / TALL);
  canvas.width = wide;
  canvas.height = tall;
  const pen = canvas.getContext('2d'), x = 0.4 * wide;
  pen.fillStyle = '#6f7d78';
  pen.beginPath();
  pen.ellipse(x, 0.085 * tall, 0.062 * tall, 0.08 * tall, 0, 0, 2 * Math.PI);
  pen.fill();
  pen.beginPath();
  pen.moveTo(x - 0.05 * tall, 0.14 * tall);
  pen.bezierCurveTo(x - 0.17 * tall, 0.2 * tall, x - 0.13 * tall, 0.6 * tall, x - 0.15 * tall, 0.82 * tall);
  pen.lineTo(x + 0.15 * tall, 0.82 * tall);
  pen.bezierCurveTo(x + 0.13 * tall, 0.6 * tall, x + 0.17 * tall, 0.2 * tall, x + 0.05 * tall, 0.14 * tall);
  pen.fill();
  for (const side of [-1, 1]) pen.fillRect(x + side * 0.055 * tall - 0.035 * tall, 0.8 * tall, 0.07 * tall, 0.2 * tall);
  pen.fillStyle = '#8b7a55';
  const staff = 0.86 * wide;
  pen.fillRect(staff, 0, 0.018 * tall, tall);
  pen.fillStyle = '#f4f0e6';
  for (let metres = 0.5; metres < TALL; metres += 0.5) pen.fillRect(staff - 0.012 * tall, tall * (1 - metres / TALL), 0.042 * tall, 0.012 * tall);
  const texture = new THREE.CanvasTexture(canvas);
  texture.colorSpace = THREE.SRGBColorSpace;
  return texture;
}
