import * as THREE from '../vendor/three/three.module.js';

const OUT = 255, FULL = 254;

/**
 * What the skin's own materials show besides their colours: what one joint moves, or a region. Straw is little, deep teal all;
 * what a joint does not move stays bare, and how deep it clips, from white to plum; what is out of a region is bare and hatched. Also adds a take's offsets after skinning.
 */
export class Influence {
  constructor() {
    this._slots = [];
  }

  /** Teach a mesh's own material to show it. */
  add(mesh) {
    const count = mesh.geometry.attributes.position.count;
    const slot = { shownSlot: { value: -1 }, regionShown: { value: 0 } };
    mesh.geometry.setAttribute('level', new THREE.BufferAttribute(new Float32Array(count).fill(-1), 1));
    mesh.geometry.setAttribute('moved', new THREE.BufferAttribute(new Float32Array(3 * count), 3).setUsage(THREE.DynamicDrawUsage));
    this._slots.push({ mesh, slot });
    mesh.material.onBeforeCompile = (shader) => {
      Object.assign(shader.uniforms, slot);
      shader.vertexShader = moving(shader.vertexShader)
        .replace('#include <common>', '#include <common>\nuniform float shownSlot;\nattribute float level;\nvarying float vInfluence;\nvarying float vLevel;')
        .replace('#include <begin_vertex>', `#include <begin_vertex>
          vLevel = level; vInfluence = 0.0;
          #ifdef USE_SKINNING
            vInfluence = dot(vec4(lessThan(abs(skinIndex - vec4(shownSlot)), vec4(0.5))), skinWeight);
          #endif`);
      shader.fragmentShader = shader.fragmentShader
        .replace('#include <common>', '#include <common>\nuniform float shownSlot;\nuniform float regionShown;\nvarying float vInfluence;\nvarying float vLevel;')
        .replace('#include <color_fragment>', `#include <color_fragment>
          if (shownSlot > -0.5 || regionShown > 0.5) {
            vec3 straw = vec3(0.83, 0.66, 0.26), moss = vec3(0.22, 0.40, 0.13), teal = vec3(0.01, 0.13, 0.17);
            float value = regionShown > 0.5 ? clamp(vLevel, 0.0, 1.0) : vInfluence;
            vec3 white = vec3(0.94, 0.93, 0.90), plum = vec3(0.27, 0.03, 0.20);
            vec3 pale = vec3(0.80, 0.52, 0.42), brick = vec3(0.43, 0.07, 0.05), bone = vec3(0.80, 0.76, 0.64);
            vec3 ramp = regionShown > 2.5 ? mix(pale, brick, value) : regionShown > 1.5 ? mix(white, plum, sqrt(value)) : value < 0.5 ? mix(straw, moss, value * 2.0) : mix(moss, teal, value * 2.0 - 1.0);
            vec3 bare = mix(vec3(dot(diffuseColor.rgb, vec3(0.3, 0.6, 0.1))), vec3(0.82), 0.6);
            if (regionShown > 0.5 && regionShown < 1.5) {
              float hatch = step(0.82, fract((gl_FragCoord.x + gl_FragCoord.y) / 9.0));
              bare = mix(bare, bare * 0.78, hatch);
            }
            if (regionShown > 2.5) bare = bone;
            float isIn = regionShown > 0.5 ? smoothstep(-0.55, -0.45, vLevel) : smoothstep(0.005, 0.03, vInfluence);
            diffuseColor.rgb = mix(bare, ramp, isIn);
          }`);
    };
    mesh.material.customProgramCacheKey = () => 'influence';
    mesh.customDepthMaterial = new THREE.MeshDepthMaterial({ depthPacking: THREE.RGBADepthPacking });
    mesh.customDepthMaterial.onBeforeCompile = (shader) => { shader.vertexShader = moving(shader.vertexShader); };
  }

  /** Forget a mesh. */
  remove(mesh) { this._slots = this._slots.filter((each) => each.mesh !== mesh); }

  /** Show what a joint (three.js object) moves; null shows nothing. */
  show(joint) {
    for (const { mesh, slot } of this._slots) slot.shownSlot.value = joint ? absent(mesh.skeleton?.bones.indexOf(joint) ?? -1) : -1;
  }

  /** Show how deep each part (by number) clips, levels of one byte a vertex as a region's; null shows none. */
  showDepths(parts, levels) {
    for (const { mesh, slot } of this._slots) {
      if (!levels) { if (slot.regionShown.value === 2) slot.regionShown.value = 0; continue; }
      slot.regionShown.value = 2;
      const own = levels[parts.indexOf(mesh)], { level } = mesh.geometry.attributes;
      for (let v = 0; v < level.count; v++) level.array[v] = own && own[v] !== OUT ? own[v] / FULL : -1;
      level.needsUpdate = true;
    }
  }

  /** Show how muscles are pulled on some parts (a Set of numbers), whose levels say it; null shows it no more. */
  showPulls(parts, inner) {
    for (const { mesh, slot } of this._slots) {
      const isInner = Boolean(inner?.has(parts.indexOf(mesh)));
      if (isInner) { if (slot.regionShown.value !== 3) mesh.geometry.attributes.level.array.fill(-1); slot.regionShown.value = 3; mesh.geometry.attributes.level.needsUpdate = true; }
      else if (slot.regionShown.value === 3) slot.regionShown.value = 0;
    }
  }

  /** Show a region's levels (Uint8Array) on its mesh, everything else as out; null shows none. */
  showRegion(regionMesh, levels) {
    for (const { mesh, slot } of this._slots) {
      if (!levels) { if (slot.regionShown.value === 1) slot.regionShown.value = 0; continue; }
      slot.regionShown.value = 1;
      const { level } = mesh.geometry.attributes;
      for (let v = 0; v < level.count; v++) level.array[v] = mesh === regionMesh && levels[v] !== OUT ? levels[v] / FULL : -1;
      level.needsUpdate = true;
    }
  }
}

/** A vertex shader that adds the take's offsets, given in the world, after skinning. */
function moving(shader) {
  return shader
    .replace('#include <common>', '#include <common>\nattribute vec3 moved;')
    .replace('#include <skinning_vertex>', '#include <skinning_vertex>\n  transformed += inverse(mat3(modelMatrix)) * moved;');
}

/** A joint that this skin does not have moves nothing of it: a slot that no vertex names. */
function absent(index) {
  return index < 0 ? 1e6 : index;
}
