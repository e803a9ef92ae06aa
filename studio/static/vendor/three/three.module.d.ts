export * from 'three';
