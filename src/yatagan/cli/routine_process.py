"""`python -m yatagan.cli.routine_process ASKED ANSWER`: one run of a routine, from file to file."""

from __future__ import annotations

import sys
from pathlib import Path

from yatagan.background.routine_runs import Planned
from yatagan.background.routine_work import read_work, work_off, write_answer
from yatagan.cli.context import App, run
from yatagan.cli.words.messages import explain
from yatagan.errors import YataganError


def main() -> None:
    """Meet the request; an error is the answer, in words."""
    asked, answer = (Path(each).absolute() for each in sys.argv[1:])
    work = read_work(asked)
    app = App.start(questions=False)
    app.command = ("yatagan", *work.words) if work.words else ()
    try:
        found = run(work_off(app, work))
    except YataganError as error:
        found = Planned(failure=explain(error).message)
    write_answer(answer, found)


if __name__ == "__main__":
    main()
