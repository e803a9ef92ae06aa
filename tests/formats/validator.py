"""The glTF validator from npm, run offline."""

import json
import pathlib
import subprocess
import tempfile

TOOLS = pathlib.Path(__file__).resolve().parent.parent / "tools"
SCRIPT = """
const validator = require('gltf-validator');
const bytes = new Uint8Array(require('fs').readFileSync(process.argv[1]));
validator.validateBytes(bytes).then((report) => console.log(JSON.stringify(report.issues)));
"""


def issues_of(data):
    """The validator's issues for a file given as bytes: numErrors, messages, ..."""
    with tempfile.NamedTemporaryFile(suffix=".glb") as file:
        file.write(data)
        file.flush()
        done = subprocess.run(["node", "-e", SCRIPT, file.name], cwd=TOOLS, capture_output=True, text=True, check=True, timeout=120)
    return json.loads(done.stdout)
