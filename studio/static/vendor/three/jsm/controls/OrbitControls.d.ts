export * from 'three/examples/jsm/controls/OrbitControls.js';
