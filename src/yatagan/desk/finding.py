"""Where a user's directories are."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from yatagan.config.home import Home


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
