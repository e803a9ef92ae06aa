"""The core without the app: ``python -m quiver inspect FILE``, ``bake FILE --setup SETUP --clip NAME --out OUT``, ``run`` and others."""

import argparse
import base64
import json
import pathlib
import sys

from quiver import commands as commands_of_takes
from quiver.dial_tables import dial_tables
from quiver.errors import BadFormat, Finding, QuiverError
from quiver.formats.gltf.reading import read_character
from quiver.intake import read_within_bounds
from quiver.setup import document as setup_document


def main(arguments=None):
    """Run one command; returns the exit code: 0 done, 1 refused, 2 where some takes of many failed."""
    options = _parser().parse_args(arguments)
    try:
        return options.run(options)
    except BadFormat as error:
        _print_refusal(error, error.findings, options)
    except (QuiverError, OSError) as error:
        _print_refusal(error, [Finding("refused", str(error), "", str(options.file), "unusable")], options)
    return 1


def _parser():
    parser = argparse.ArgumentParser(prog="python -m quiver", description=__doc__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    inspect = commands.add_parser("inspect", help="say what is in a GLB or glTF file")
    inspect.add_argument("file", type=pathlib.Path)
    inspect.add_argument("--json", action="store_true", help="print JSON")
    inspect.set_defaults(run=_inspect)
    commands_of_takes.add_to(commands)
    intake = commands.add_parser(
        "intake", help="read a file within bounds of memory and time, and print all that the app keeps of it as JSON"
    )
    intake.add_argument("file", type=pathlib.Path)
    intake.add_argument("--name", default="character")
    intake.set_defaults(run=_intake)
    schema = commands.add_parser("schema", help="print the setup's JSON Schema")
    table = commands.add_parser("dials", help="print the guide's tables of dials")
    table.set_defaults(run=lambda options: print(dial_tables(), end="") or 0)
    schema.set_defaults(run=lambda options: print(json.dumps(setup_document.json_schema(), indent=2)) or 0)
    return parser


def _inspect(options):
    character, _ = read_character(options.file.read_bytes(), options.file.stem)
    facts = {
        "usable": True,
        "joints": character.joint_count,
        "vertices": character.vertex_count,
        "meshes": len(character.meshes),
        "clips": [{"name": clip.name, "seconds": round(clip.seconds, 6), "keys": clip.key_count} for clip in character.clips],
        "findings": [finding.as_dict() for finding in character.findings],
    }
    if options.json:
        print(json.dumps(facts))
        return 0
    print(f"{options.file.name}: {facts['joints']} joints, {facts['vertices']} vertices in {facts['meshes']} meshes")
    for clip in facts["clips"]:
        print(f"  clip “{clip['name']}”: {clip['seconds']:.2f} s, {clip['keys']} keys")
    _print_findings(character.findings)
    return 0


def _intake(options):
    """Prints one JSON object: what `kept_of` gives, the picture in base64, or {"refused", "findings"}."""
    try:
        kept = read_within_bounds(options.file, options.name)
    except BadFormat as error:
        print(json.dumps({"refused": str(error), "findings": [finding.as_dict() for finding in error.findings]}))
        return 1
    print(json.dumps(kept | {"picture": base64.b64encode(kept["picture"]).decode()}))
    return 0


def _print_findings(findings):
    for finding in findings:
        print(f"  {finding.level}: {finding.message} ({finding.where}) {finding.hint}".rstrip())


def _print_refusal(error, findings, options):
    if getattr(options, "json", False):
        print(json.dumps({"usable": False, "findings": [finding.as_dict() for finding in findings]}))
        return
    print(f"refused: {error}", file=sys.stderr)
    if len(findings) > 1:
        _print_findings(findings)


if __name__ == "__main__":
    sys.exit(main())
