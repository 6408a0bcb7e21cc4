"""A checksum list as a shell script, for machines without Yatagan: it checks by their own commands.

Plain POSIX shell: nothing but `sha256sum` or `shasum`, `awk` and `cd` is called. All happens in a subshell, so that a
script which reads it in with `.` keeps its options, its directory and its variables. Names that lists have to escape,
which not every command understands, are checked one by one. A caller's options, aliases, functions and CDPATH change
nothing.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from hashlib import sha256

from yatagan.digests.checksum_lists import format_line

#: Names that a list can only hold escaped.
_ESCAPED = re.compile(rb"[\\\n\r]")

#: `\command` is no alias, and calls no function of the name that follows; CDPATH is not looked at for `./`.
_HEAD = rb"""#!/bin/sh
# Checks %(count)d files of a directory against their SHA-256. Written by: yatagan checksums --as-script
# Usage: sh %(name)s [DIRECTORY]
# Prints one line. Exit status: 0 good, 1 files are missing or different, 2 no such directory, 3 it could not look.
(
POSIXLY_CORRECT=1; LC_ALL=C; \export LC_ALL
\set +e
case ${KSH_VERSION:-} in
    '') \unset -f unset command 2>/dev/null ;;
esac
case ${1:-.} in
    /*) yatagan_place=$1 ;;
    *) yatagan_place=./${1:-.} ;;
esac
if ! \command cd -- "$yatagan_place" 2>/dev/null; then
    \command printf '%%s\n' "%(name)s: there is no such directory: ${1:-.}" >&2; \exit 2
fi
if \command -v sha256sum >/dev/null 2>&1; then yatagan_hash() { \command sha256sum "$@"; }
else yatagan_hash() { \command shasum -a 256 "$@"; }
fi
case $(yatagan_hash < /dev/null 2>/dev/null) in
    e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855*) ;;
    *) \command printf '%%s\n' "%(name)s: it could not look: neither sha256sum nor shasum works here" >&2; \exit 3 ;;
esac
yatagan_one() {
    case $(yatagan_hash < "$2" 2>/dev/null) in
        "$1 "*) yatagan_ones=$((yatagan_ones + 1)) ;;
        *) \command printf '%%s: FAILED\n' "$2" >&2 ;;
    esac
}
"""
_LIST = rb"""yatagan_list() {
\command cat <<'%(end)s'
%(lines)s%(end)s
}
yatagan_many=$(yatagan_list | yatagan_hash -c - 2>&1 | \command awk '
    /: OK$/ { good++; next } { print > "/dev/stderr" } END { print good + 0 }')
"""
_TAIL = rb"""yatagan_good=$((yatagan_many + yatagan_ones))
case $yatagan_good in
    %(count)d) \command printf '%%s\n' "%(name)s: good: %(count)d files"; \exit 0 ;;
esac
\command printf '%%s\n' "%(name)s: NOT GOOD: $((%(count)d - yatagan_good)) of %(count)d files are missing or different"
\exit 1
)
"""


def check_script(name: bytes, files: Sequence[tuple[bytes, str]]) -> bytes:
    """The script that checks files, given as (path, SHA-256 in hex). `name`: what it calls itself."""
    plain = [(path, digest) for path, digest in files if not _ESCAPED.search(path)]
    odd = [(path, digest) for path, digest in files if _ESCAPED.search(path)]
    lines = b"".join(format_line(path, digest) for path, digest in plain)
    values = {
        b"count": len(files),
        b"name": re.sub(rb"[^A-Za-z0-9._-]", b"_", name),
        b"lines": lines,
        b"end": b"END-" + sha256(lines).hexdigest()[:16].encode(),
    }
    script = _HEAD % values + b"yatagan_ones=0 yatagan_many=0\n"
    if plain:
        script += _LIST % values
    script += b"".join(b"yatagan_one %s %s\n" % (digest.encode(), _quoted(path)) for path, digest in odd)
    return script + _TAIL % values


def _quoted(path: bytes) -> bytes:
    """A path as one word of a shell, that no redirection takes for anything else."""
    path = b"./" + path
    return b"'" + path.replace(b"'", b"'\\''") + b"'"
