"""Where a user's directories are, and a desk with them."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from yatagan.config.home import Home
from yatagan.config.own_directories import secure
from yatagan.desk.desk import Desk
from yatagan.desk.questions import NoQuestions, Questions


def find_home(environment: Mapping[str, str]) -> Home:
    """The user's directories: all in YATAGAN_HOME when it is set, else where the platform keeps such things."""
    ssh = Path(os.path.expanduser("~")) / ".ssh"
    given = environment.get("XDG_RUNTIME_DIR")
    runtime = Path(given, "yatagan") if given else Path("/tmp", f"yatagan-{os.getuid()}")
    if one := environment.get("YATAGAN_HOME"):
        one = os.path.abspath(one)
        return Home(Path(one), Path(one), ssh, runtime)
    import platformdirs

    config, state = platformdirs.user_config_dir("yatagan"), platformdirs.user_state_dir("yatagan")
    return Home(Path(config), Path(state), ssh, runtime)


def open_desk(
    directory: str | os.PathLike[str] | None = None,
    *,
    questions: Questions | None = None,
    home: Home | None = None,
) -> Desk:
    """A user's desk. Relative places are below `directory`; without one they are refused.

    `questions`: who answers what operations and logins ask; None for nobody. `home`: the user's directories; None for
    those that the commands of this user have. They are made private. Raises NotBelieved for one that another account
    could have filled, OSError for a disk that fails.
    """
    found = home if home is not None else find_home(os.environ)
    secure(found)
    here = os.fsencode(os.path.abspath(directory)) if directory is not None else None
    return Desk(found, here, questions or NoQuestions(), os.environ.get("SSH_AUTH_SOCK", ""))
