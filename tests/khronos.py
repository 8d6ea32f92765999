"""Files judged by the Khronos glTF validator (npm gltf-validator), as glTF 2.0 has them."""

import json
import subprocess
from pathlib import Path

WEB = Path(__file__).resolve().parents[1] / "web"
VALIDATE = """
const v = require('gltf-validator'), fs = require('fs');
v.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1]))).then(r => console.log(JSON.stringify(r.issues)));
"""


def validated(path: Path) -> dict:
    """What the validator finds in a GLB: numbers of errors and warnings, and its messages."""
    answer = subprocess.run(["node", "-e", VALIDATE, str(path)], cwd=WEB, capture_output=True, text=True, check=True)
    return json.loads(answer.stdout)
