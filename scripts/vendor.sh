#!/bin/sh
# Fetch the pinned browser libraries and fonts into studio/static/vendor, with their licences. Needs npm; only for maintainers.
set -eu
cd "$(dirname "$0")/.."
target=studio/static/vendor
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
npm install --silent --no-audit --no-fund --prefix "$work" three@0.187.0 htmx.org@2.0.11 bulma@1.0.4 three-mesh-bvh@0.9.17 \
    @fontsource/source-sans-3@5.3.1 @fontsource/vollkorn@5.3.0
modules=$work/node_modules
rm -rf "$target"
mkdir -p "$target/three/jsm/controls" "$target/three/jsm/loaders" "$target/three/jsm/utils" "$target/htmx" "$target/bulma" "$target/fonts"
cp "$modules/three/build/three.module.js" "$modules/three/build/three.core.js" "$modules/three/LICENSE" "$target/three/"
for name in controls/OrbitControls loaders/GLTFLoader utils/BufferGeometryUtils utils/SkeletonUtils; do
    # Browsers resolve the bare name "three" only through an inline import map, which our content-security policy forbids.
    sed "s#from 'three';#from '../../three.module.js';#" "$modules/three/examples/jsm/$name.js" > "$target/three/jsm/$name.js"
done
mkdir -p "$target/three-mesh-bvh"
sed "s#from 'three';#from '../three/three.module.js';#; /sourceMappingURL/d" "$modules/three-mesh-bvh/build/index.module.js" > "$target/three-mesh-bvh/index.module.js"
cp "$modules/three-mesh-bvh/LICENSE" "$target/three-mesh-bvh/"
cp "$modules/htmx.org/dist/htmx.min.js" "$modules/htmx.org/LICENSE" "$target/htmx/"
cp "$modules/bulma/css/bulma.min.css" "$modules/bulma/LICENSE" "$target/bulma/"
for weight in 400 600 700; do cp "$modules/@fontsource/source-sans-3/files/source-sans-3-latin-$weight-normal.woff2" "$target/fonts/"; done
cp "$modules/@fontsource/vollkorn/files/vollkorn-latin-600-normal.woff2" "$target/fonts/"
cp "$modules/@fontsource/source-sans-3/LICENSE" "$target/fonts/LICENSE-source-sans-3"
cp "$modules/@fontsource/vollkorn/LICENSE" "$target/fonts/LICENSE-vollkorn"
