/** Lights up on the skin what one joint moves: straw for little, deep teal for all; what it does not move stays bare. */
export class Influence {
  constructor() {
    this._slots = [];
  }

  /** Teach a skinned mesh's own material to show it. */
  add(mesh) {
    const slot = { value: -1 };
    this._slots.push({ mesh, slot });
    mesh.material.onBeforeCompile = (shader) => {
      shader.uniforms.shownSlot = slot;
      shader.vertexShader = shader.vertexShader
        .replace('#include <common>', '#include <common>\nuniform float shownSlot;\nvarying float vInfluence;')
        .replace('#include <skinning_vertex>', `#include <skinning_vertex>
          vec4 isShown = vec4(lessThan(abs(skinIndex - vec4(shownSlot)), vec4(0.5)));
          vInfluence = dot(isShown, skinWeight);`);
      shader.fragmentShader = shader.fragmentShader
        .replace('#include <common>', '#include <common>\nuniform float shownSlot;\nvarying float vInfluence;')
        .replace('#include <color_fragment>', `#include <color_fragment>
          if (shownSlot > -0.5) {
            vec3 straw = vec3(0.83, 0.66, 0.26), moss = vec3(0.22, 0.40, 0.13), teal = vec3(0.01, 0.13, 0.17);
            vec3 ramp = vInfluence < 0.5 ? mix(straw, moss, vInfluence * 2.0) : mix(moss, teal, vInfluence * 2.0 - 1.0);
            vec3 bare = mix(vec3(dot(diffuseColor.rgb, vec3(0.3, 0.6, 0.1))), vec3(0.82), 0.6);
            diffuseColor.rgb = mix(bare, ramp, smoothstep(0.005, 0.03, vInfluence));
          }`);
    };
    mesh.material.customProgramCacheKey = () => 'influence';
  }

  /** Show what a joint (three.js object) moves; null shows nothing. */
  show(joint) {
    for (const { mesh, slot } of this._slots) slot.value = joint ? absent(mesh.skeleton.bones.indexOf(joint)) : -1;
  }
}

/** A joint that this skin does not have moves nothing of it: a slot that no vertex names. */
function absent(index) {
  return index < 0 ? 1e6 : index;
}
