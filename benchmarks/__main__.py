"""`python -m benchmarks [NAME...] [--json]`: run measurements and print their ratios."""

from __future__ import annotations

import argparse
import json
import sys

from benchmarks import bundles, carrying, contents, ledgers
from benchmarks.meant import missed

BENCHES = {**carrying.BENCHES, **contents.BENCHES, **bundles.BENCHES, **ledgers.BENCHES}


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
        out = sys.stderr if given.json else sys.stdout
        print(name, file=out)
        short = missed(name, results[name])
        for what, value in results[name].items():
            number = f"{value:>12.3f}" if isinstance(value, float) else f"{value:>12}"
            print(f"  {what:<46}{number}{'  less good than is meant' if what in short else ''}", file=out)
        out.flush()
    if given.json:
        print(json.dumps(results, indent=2))


main()
