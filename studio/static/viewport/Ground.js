import * as THREE from '../vendor/three/three.module.js';

const PIXELS = 1024;

/** Wet sand with ripples, fading into the fog, and a soft dark place where the character stands. */
export class Ground {
  constructor() {
    this.object = new THREE.Group();
    const disc = new THREE.CircleGeometry(1, 64).rotateX(-Math.PI / 2);
    this._sand = new THREE.Mesh(disc, new THREE.MeshLambertMaterial({ map: texture(paintRipples), alphaMap: texture(paintFade), transparent: true, depthWrite: false }));
    this._sand.receiveShadow = true;
    this._contact = new THREE.Mesh(disc, new THREE.MeshBasicMaterial({ color: 0x3a3528, alphaMap: texture(paintContact), transparent: true, opacity: 0.5, depthWrite: false }));
    this._contact.renderOrder = 1;
    this.object.add(this._sand, this._contact);
  }

  fit(centre, height, radius) {
    this._sand.position.set(centre.x, height, centre.z);
    this._sand.scale.setScalar(radius * 3.4);
    this._contact.position.set(centre.x, height + radius * 0.002, centre.z);
    this._contact.scale.setScalar(radius * 1.02);
  }
}

function texture(paint) {
  const canvas = document.createElement('canvas');
  canvas.width = canvas.height = PIXELS;
  const context = canvas.getContext('2d');
  const image = context.createImageData(PIXELS, PIXELS);
  for (let y = 0; y < PIXELS; y++) {
    for (let x = 0; x < PIXELS; x++) {
      const [r, g, b] = paint((2 * x) / PIXELS - 1, (2 * y) / PIXELS - 1);
      image.data.set([r, g, b, 255], 4 * (y * PIXELS + x));
    }
  }
  context.putImageData(image, 0, 0);
  const made = new THREE.CanvasTexture(canvas);
  made.colorSpace = paint === paintRipples ? THREE.SRGBColorSpace : THREE.NoColorSpace;
  return made;
}

function paintRipples(x, y) {
  const bend = 0.05 * Math.sin(7 * x + 2) + 0.04 * Math.sin(5 * x - 9 * y);
  const wave = Math.sin((y + bend) * 170 + 1.5 * Math.sin(x * 11));
  const light = 5 * wave + 3 * Math.sin(53 * x + 31 * y) * Math.sin(41 * y - 17 * x);
  return [222 + light, 212 + light, 186 + light];
}

function grey(value) {
  const level = Math.round(255 * Math.min(1, Math.max(0, value)));
  return [level, level, level];
}

function paintFade(x, y) {
  const reach = Math.hypot(x, y);
  const share = Math.min(1, Math.max(0, (1 - reach) / 0.92));
  return grey(share * share * (3 - 2 * share));
}

function paintContact(x, y) {
  const reach = Math.hypot(x * 1.5, y * 0.95);
  return grey(Math.exp(-reach * reach * 5.5) * Math.max(0, 1 - Math.hypot(x, y)));
}
