"""The commands that run takes: ``bake`` one clip, ``run`` many, ``solve`` for dials; and ``travel``, a setup to
another character.

They read a character and a setup, and write files and what is told."""

import contextlib
import json
import os
import pathlib
import sys

from quiver import batch, cluster, export, solve, travel
from quiver.bake import joints, meshes
from quiver.bodies import made
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig.made_clips import try_outs
from quiver.run.keyed import keyed_clip
from quiver.run.spec import TakeSpec
from quiver.setup import document as setup_document
from quiver.setup import edits
from quiver.wanted import UNITS, Goal

SOME_FAILED = 2
"""Exit code where some takes failed and others did not."""


def add_to(commands):
    """Add them to the commands of a parser."""
    bake = _command(commands, "bake", "simulate a setup on a clip and write a GLB with the baked clip", _bake)
    bake.add_argument("--clip", default="", help="the clip's name, or “try-out: bob” and others; without it, the rest pose")
    bake.add_argument("--out", type=pathlib.Path, required=True)
    bake.add_argument("--name", help="the new clip's name")
    run = _command(commands, "run", "simulate a setup on many clips, or over a range of dials, tell what came out, and write it", _run)
    run.add_argument("--clip", action="append", default=[], metavar="NAME", help="a clip or try-out motion; may be given again")
    run.add_argument("--all-clips", action="store_true", help="all clips of the file")
    run.add_argument(
        "--sweep", action="append", default=[], metavar="LAYER.DIAL=LOW:HIGH:COUNT", help="one or two dials over a range, of one clip"
    )
    run.add_argument("--out", type=pathlib.Path, help="a GLB with all new clips; with --each a folder for a file each")
    run.add_argument("--each", action="store_true", help="write a file for each take")
    run.add_argument("--json", action="store_true", help="print JSON")
    run.add_argument("--threads", type=int, help="how many threads may be used")
    run.add_argument("--cluster", metavar="ADDRESS", help="a Dask scheduler, tcp://…, or how many workers to start here; or KEEN_CLUSTER")
    found = commands.add_parser("solve", help="find the dials that make a motion as it is wanted, and write the setup with them")
    found.add_argument("file", type=pathlib.Path)
    found.add_argument("--setup", type=pathlib.Path, required=True, help="the setup, JSON")
    found.add_argument("--clip", default="", help="the clip's name, or a try-out motion")
    what = "“moves” [mm], “lags” [frames], “settles” [frame] or “clips” [mm], at most or exactly"
    found.add_argument("--want", action="append", default=[], metavar="LAYER.WHAT<=VALUE", help=what)
    found.add_argument("--turn", action="append", default=[], metavar="LAYER.DIAL=LOW:HIGH", help="a dial that may be turned, up to four")
    found.add_argument("--out", type=pathlib.Path, required=True, help="where the setup with the dials goes")
    found.add_argument("--json", action="store_true", help="print JSON")
    found.add_argument("--cluster", metavar="ADDRESS", help="as for run")
    found.set_defaults(run=_solve)
    over = commands.add_parser("travel", help="bring a setup over to another character, or to a revised model")
    over.add_argument("file", type=pathlib.Path, help="the character that the setup is of")
    over.add_argument("to", type=pathlib.Path, help="the character that it goes to")
    over.add_argument("--setup", type=pathlib.Path, required=True, help="the setup, JSON")
    over.add_argument("--match", action="append", default=[], metavar="OLD=NEW", help="joints that belong together, whatever their names")
    over.add_argument("--out", type=pathlib.Path, required=True, help="where the setup that came over goes")
    over.set_defaults(run=_travel)


def _travel(options):
    source, _ = read_character(options.file.read_bytes(), options.file.stem)
    target, _ = read_character(options.to.read_bytes(), options.to.stem)
    by_hand = dict(pair.partition("=")[::2] for pair in options.match)
    journey = travel.travelled(setup_document.loads(options.setup.read_bytes()), source, target, by_hand)
    options.out.write_text(setup_document.dumps(journey.setup))
    for old, new in sorted(journey.joints.items()):
        if new != old:
            print(f"{old} → {new or 'none'}")
    for remark in journey.remarks:
        print(f"note: {remark}")
    for what, why in journey.left_out:
        print(f"left out: {what}: {why}")
    print(f"{len(journey.setup.layers)} layers, {len(journey.setup.regions)} regions, {len(journey.setup.colliders)} colliders came over")
    return SOME_FAILED if journey.left_out else 0


def _command(commands, name, words, function):
    parser = commands.add_parser(name, help=words)
    parser.add_argument("file", type=pathlib.Path)
    parser.add_argument("--setup", type=pathlib.Path, required=True, help="the setup, JSON")
    parser.add_argument("--around", action="store_true", help="run clips around until the motion repeats; what comes out closes")
    parser.add_argument("--step", type=int, default=1, help="a key every so many frames")
    parser.add_argument("--thin", type=float, default=0.0, metavar="DEGREES", help="drop keys within this error")
    parser.add_argument("--shapes", type=float, default=0.0, metavar="MM", help="as few shapes as keep soft parts within this error")
    parser.add_argument("--muscles", action="store_true", help="muscles that the setup makes become meshes of the file")
    parser.set_defaults(run=function)
    return parser


def _read(options):
    character, document = read_character(options.file.read_bytes(), options.file.stem)
    return character, document, setup_document.loads(options.setup.read_bytes())


def _bake(options):
    character, document, setup = _read(options)
    order = batch.Order(options.clip or "rest", TakeSpec(character, setup, options.clip), options.around)
    outcome = next(iter(batch.run([order])))
    if outcome.error:
        raise BadInput(outcome.error)
    baked, _, shapes = clip = _clip(order.spec, outcome, options)
    _write(options.out, character, document, setup, [clip], options)
    for note in outcome.notes:
        print(f"note: {note}")
    if shapes:
        print(f"{sum(len(each.deltas) for each in shapes)} shapes for the soft parts")
    print(f"{baked.frames} frames, {baked.keys} keys; thinning moved turns by at most {baked.turn_error:.3f} degrees")
    return 0


def _run(options):
    character, document, setup = _read(options)
    names = [clip.name for clip in character.clips] if options.all_clips else options.clip
    if not names:
        raise BadInput("expected --all-clips, or --clip NAME; there are " + ", ".join([*(c.name for c in character.clips), *try_outs()]))
    if options.around:
        for name in names:
            setup = edits.set_cycle(setup, name, True)
    if options.sweep:
        if len(names) != 1 or (options.out and not options.each):
            raise BadInput("expected a sweep of one clip, written with --each if at all")
        orders = batch.orders_of_sweep(character, setup, names[0], [_range(setup, sent) for sent in options.sweep])
    else:
        orders = batch.orders_of_clips(character, setup, names)
    outcomes = _outcomes(orders, options)
    failed = [bool(each.error) for each in outcomes]
    clips = {
        id(each): _clip(order.spec, each, options) for order, each in zip(orders, outcomes, strict=True) if not each.error and options.out
    }
    if options.out and options.each:
        options.out.mkdir(parents=True, exist_ok=True)
        for number, each in enumerate(outcomes):
            if id(each) in clips:
                _write(options.out / f"{number + 1:02d} {_plain(each.name)}.glb", character, document, setup, [clips[id(each)]], options)
    elif options.out and clips:
        _write(options.out, character, document, setup, list(clips.values()), options)
    if options.json:
        print(json.dumps({"takes": [each.as_dict() for each in outcomes]}))
    else:
        for each in outcomes:
            print(_line(each))
    return 0 if not any(failed) else 1 if all(failed) else SOME_FAILED


def _outcomes(orders, options):
    """The Outcomes of some orders, made here or on a cluster, in their order."""
    many = _cluster(options)
    if many is None:
        return [outcome for _, outcome in _told(orders, enumerate(batch.run(orders, threads=options.threads, told=_progress(orders))))]
    with many:
        print(f"{many.workers} workers", file=sys.stderr)
        found = dict(_told(orders, many.run(orders, told=_progress(orders))))
    return [found[number] for number in range(len(orders))]


def _cluster(options):
    """The Cluster that is asked for, or None."""
    where = options.cluster or os.environ.get("KEEN_CLUSTER", "")
    return cluster.Cluster(where) if where else None


def _solve(options):
    character, _, setup = _read(options)
    frees, goals = [], []
    for sent in options.turn:
        address, _, span = sent.partition("=")
        try:
            low, high = map(float, span.split(":"))
        except ValueError:
            raise BadInput(f"expected LAYER.DIAL=LOW:HIGH, got “{sent}”") from None
        frees.append(solve.Free(*_addressed(setup, address), low, high))
    for sent in options.want:
        address, sign, value = sent.partition("<=" if "<=" in sent else "=")
        try:
            goals.append(Goal(*reversed(_addressed(setup, address)), float(value), sign == "="))
        except ValueError:
            raise BadInput(f"expected LAYER.WHAT<=VALUE or LAYER.WHAT=VALUE, got “{sent}”") from None

    def told(tries, most, miss):
        if sys.stderr.isatty():
            print(f"\rtry {tries} of at most {most}, {100.0 * miss:.1f} % off", end="", file=sys.stderr, flush=True)

    many = _cluster(options)
    with many or contextlib.nullcontext():
        take = many.in_turn if many else batch.run
        solution = solve.solve(character, setup, options.clip, goals, frees, take=take, told=told)
    options.out.write_text(setup_document.dumps(solution.setup))
    if options.json:
        facts = {"values": solution.values, "found": solution.found, "tries": solution.tries}
        print(json.dumps(facts | {"unmet": [goal.what for goal in solution.unmet]}))
    else:
        for free, value in zip(frees, solution.values, strict=True):
            print(f"{free.layer}.{free.dial} = {value:.4g}")
        for goal, value in zip(goals, solution.found, strict=True):
            wanted = f"{'exactly' if goal.is_exact else 'at most'} {goal.value:g} {UNITS[goal.what]}"
            print(f"{goal.layer} {goal.what} {value:.4g}; wanted {wanted}{': not met' if goal in solution.unmet else ''}")
    return SOME_FAILED if solution.unmet else 0


def _addressed(setup, address):
    """(layer id, what is behind the dot) of LAYER.NAME, the layer by its id or name. Raises BadInput."""
    layer, _, name = address.strip().rpartition(".")
    known = next((each.id for each in setup.layers if layer in (each.id, each.name)), layer)
    return setup.layer(known).id, name


def _range(setup, sent):
    """(layer id, dial, values) of LAYER.DIAL=LOW:HIGH:COUNT."""
    address, _, span = sent.partition("=")
    try:
        low, high, count = span.split(":")
        values = batch.spread(float(low), float(high), int(count))
    except ValueError:
        raise BadInput(f"expected LAYER.DIAL=LOW:HIGH:COUNT, got “{sent}”") from None
    return *_addressed(setup, address), values


def _told(orders, outcomes):
    for number, outcome in outcomes:
        print(f"\r{orders[number].name}: {outcome.error or 'done'}".ljust(70), file=sys.stderr)
        yield number, outcome


def _progress(orders):
    """Writes how far each is on one line of the terminal."""

    def told(number, done, total):
        if sys.stderr.isatty():
            print(f"\r{orders[number].name}: frame {done}{f' of {total}' if total else ''}".ljust(70), end="", file=sys.stderr, flush=True)

    return told


def _clip(spec, outcome, options):
    """(Baked, name, Shapes) of what came of a TakeSpec."""
    character, (rotations, translations, offsets) = spec.character, outcome.arrays
    first, last = spec.first_frame, spec.first_frame + outcome.frames - 1
    clip = keyed_clip(character, spec.setup, spec.clip_name)
    arrays = (outcome.rotated, outcome.translated, rotations, translations)
    baked = joints.bake(character, clip.uncarried, outcome.rate, first, *arrays, first, last, options.step, options.thin)
    frames = joints.frames_between(first, last, options.step)
    rows = frames - first
    world = meshes.take_world(
        character, clip, frames, outcome.rate, outcome.rotated, outcome.translated, rotations[rows], translations[rows]
    )
    limit = options.shapes / 1000.0 / spec.setup.metres_per_unit
    name = getattr(options, "name", None) or f"{outcome.name} with motion"
    return baked, name, meshes.all_shapes(character, outcome.moved, offsets[rows], world, limit)


def _write(path, character, document, setup, clips, options):
    if options.muscles:
        character = made.for_export(character, setup)
    path.write_bytes(b"".join(export.glb_parts(document, character, clips)))


def _plain(name):
    return "".join(letter if letter.isalnum() or letter in " -_." else "_" for letter in name)[:80]


def _line(outcome):
    """What is told of an Outcome on one line."""
    if outcome.error:
        return f"{outcome.name}: failed: {outcome.error}"
    worst = ", ".join(f"{name} {value:.3g}" for name, value in sorted(outcome.worst.items()))
    loop = ""
    if outcome.cycles:
        mm, degrees = (max((gap[k] for gap in outcome.gap.values()), default=0.0) for k in (0, 1))
        loop = f"; around {outcome.cycles} times, gap {mm:.3f} mm, {degrees:.3f} degrees, closed"
    return f"{outcome.name}: {outcome.frames} frames, {outcome.cost_ms:.1f} ms each; {worst}{loop}"
