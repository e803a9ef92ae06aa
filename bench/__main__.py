"""``./keen bench [--json] [name ...]``: all rows, or those whose name begins with one of the given."""

import argparse
import json

from bench import app, core, flesh, scale, touch


def main():
    parser = argparse.ArgumentParser(prog="keen bench")
    parser.add_argument("--json", action="store_true", help="one JSON object a line")
    parser.add_argument("group", nargs="?", choices=("all", "core", "touch", "flesh", "app", "scale"), default="all")
    options = parser.parse_args()
    for group in (core, touch, flesh, app, scale):
        if options.group not in ("all", group.__name__.split(".")[-1]):
            continue
        for each in group.rows():
            if options.json:
                print(json.dumps(each.as_dict()), flush=True)
            else:
                print(f"{each.name:28}{each.ours:>10g} {each.unit:11}{each.ratio:>9g}x  {each.note}", flush=True)


if __name__ == "__main__":
    main()
