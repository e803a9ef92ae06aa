/** Types of what the app uses of it, for the check of the page's scripts. */
import { BufferGeometry, Intersection, Ray, Side } from 'three';
export class MeshBVH {
  constructor(geometry: BufferGeometry, options?: object);
  geometry: BufferGeometry;
  refit(): void;
  raycastFirst(ray: Ray, side: Side): Intersection | null;
}
