"""`python -m benchmarks [NAME...] [--json]`: run measurements and print their ratios."""

from __future__ import annotations

import argparse
import json
import sys

from benchmarks import bundles, carrying, contents

BENCHES = {**carrying.BENCHES, **contents.BENCHES, **bundles.BENCHES}


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("names", nargs="*", metavar="NAME", help=f"which (default: all): {', '.join(BENCHES)}")
    parser.add_argument("--json", action="store_true", help="one JSON object at the end")
    given = parser.parse_args()
    unknown = set(given.names) - set(BENCHES)
    if unknown:
        parser.error(f"unknown: {', '.join(sorted(unknown))}")
    results = {}
    for name in given.names or BENCHES:
        results[name] = BENCHES[name]()
        if not given.json:
            print(name, file=sys.stderr if given.json else sys.stdout)
            for what, value in results[name].items():
                print(f"  {what:<34}{value:>12.3f}" if isinstance(value, float) else f"  {what:<34}{value:>12}")
            sys.stdout.flush()
    if given.json:
        print(json.dumps(results, indent=2))


main()
