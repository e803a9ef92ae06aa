export * from 'three/examples/jsm/loaders/GLTFLoader.js';
