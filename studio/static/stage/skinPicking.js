import * as THREE from '../vendor/three/three.module.js';
import { MeshBVH } from '../vendor/three-mesh-bvh/index.module.js';

/** The ray from the eye through a pointer event. */
export function rayThrough(desk, event) {
  const box = desk.stage.canvas.getBoundingClientRect(), caster = new THREE.Raycaster();
  caster.setFromCamera(new THREE.Vector2(((event.clientX - box.left) / box.width) * 2 - 1, 1 - ((event.clientY - box.top) / box.height) * 2), desk.stage.camera);
  return caster.ray;
}

/** What of the character is under a pointer event, as it stands now: {mesh, vertex, point}, or null. */
export function vertexUnder(desk, event) {
  const ray = rayThrough(desk, event);
  let nearest = null;
  desk.view.parts.forEach((part, mesh) => {
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(desk.view.posed(part), 3));
    geometry.setIndex(part.geometry.index ? new THREE.BufferAttribute(part.geometry.index.array.slice(), 1) : null);
    const hit = new MeshBVH(geometry).raycastFirst(ray, THREE.DoubleSide);
    if (!hit || nearest && hit.distance > nearest.distance) return;
    const places = geometry.attributes.position.array, corners = [hit.face.a, hit.face.b, hit.face.c];
    const away = corners.map((v) => hit.point.distanceTo(new THREE.Vector3().fromArray(places, 3 * v)));
    nearest = { mesh, vertex: corners[away.indexOf(Math.min(...away))], point: hit.point, distance: hit.distance };
  });
  return nearest;
}
