"""What people get wrong: each gives one line that says what happened, one that says what to do, and the status."""

from __future__ import annotations

import contextlib
import json
import shutil
import socket
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, start_sshd
from yatagan.cli.answers.json_answer import JSON_FORMAT
from yatagan.cli.words.messages import KINDS
from yatagan.errors import CannotReach

#: Kinds of errors that say how far a login came.
REACHING = {kind for error, kind in KINDS.items() if issubclass(error, CannotReach)}

#: (words, exit status, what is said). `{heron}` and so on are saved nodes; see `nodes`.
WRONG: list[tuple[list[str], int, str]] = [
    (["list", "new:"], 3, "not accepted yet"),
    (["node", "add", "x", "host", "--port", "0"], 2, "0 is not in the range"),
    (["node", "add", "x", "host", "--port", "ssh"], 2, "'ssh' is not a valid integer"),
    (["node", "add", "a:b", "host"], 2, "'a:b' cannot be a node's name"),
    (["node", "add", "x", "mara@host"], 2, "is no address"),
    (["node", "add", "x", "-oProxyCommand=x"], 2, "there is no option -o of yatagan node add"),
    (["node", "add", "x", "host", "--key", "nowhere"], 2, "'nowhere' does not exist"),
    (["node", "add", "x", "host", "--trust", "MD5:00"], 2, "is no fingerprint"),
    (["node", "add", "x", "host", "--role", "compute"], 2, "'compute' is not one of"),
    (["node", "add", "x", "host", "--cluster", "a b"], 2, "cannot be a cluster's name"),
    (["node", "show", "nobody"], 2, "no node is called 'nobody'"),
    (["list", "nobody:fen"], 2, "save it with: yatagan node add nobody"),
    (["list", "no such:thing"], 2, "cannot be a node's name"),
    (["list", ""], 2, "an empty name is no place"),
    (["list", "nothing-here"], 2, "no such file or directory"),
    (["list", "heron:nothing-there"], 2, "no such file or directory"),
    (["list", "heron:@nowhere"], 2, "there is no such area"),
    (["stage", "fen", "heron:", "bittern:"], 2, "all sources must be on the same machine"),
    (["stage", "heron:a", "heron:b"], 2, "there is nothing there"),
    (["node", "add", "x", "host", "--max-rate", "fast"], 2, "'fast' is no rate"),
    (["node", "add", "x", "host", "--logins", "99"], 2, "logins must be a number from 1 to 16"),
    (["stage", "heron:a", "fen", "."], 2, "all sources must be on the same machine"),
    (["stage", "fen", "other/fen", "heron:"], 2, "under the same name"),
    (["stage", "fen", "heron:", "--as", "a/b"], 2, "--as takes one plain name, not a path"),
    (["stage", "fen", "fen/a/b"], 2, "must be a directory"),
    (["stage", "fen", "fen/deeper"], 5, "lies inside the source"),
    (["stage", "fen", "bittern:", "--prove", "on-node"], 3, "no terminal to answer"),
    (["stage", "fen", "heron:", "--prove", "perhaps"], 2, "'perhaps' is not one of"),
    (["stage", "fen", "heron:", "--only", ".."], 2, "is no pattern"),
    (["verify", "heron:"], 2, "SHA256SUMS"),
    (["verify", "fen", "--against", "fen/a"], 2, "line 1"),
    (["batch", "show", "k7qd"], 2, "no batch is called 'k7qd'"),
    (["batch", "resume"], 2, "there is no batch yet"),
    (["remove", "fen"], 5, "add --yes"),
    (["stage", "fen"], 2, "the destination is missing: name one after fen, such as NODE:PATH"),
    (["stage", "heron:fen"], 2, "such as . for the directory"),
    (["stage", "fen", "heron"], 2, "heron is a node: write heron: a local heron is written ./heron"),
    (["list", "heron"], 2, "heron is a node: write heron:"),
    (["mkdir", "heron"], 2, "heron is a node: write heron:"),
    (["list", "hern:"], 2, "did you mean heron?"),
    (["lisst", "heron:"], 2, "did you mean: yatagan list"),
    (["batch", "sho"], 2, "did you mean: yatagan batch show"),
    (["list", "heron:", "--recursiv"], 2, "did you mean --recursive?"),
    (["node", "add", "heron", "elsewhere"], 2, "change it with: yatagan node change heron"),
    (["node", "change", "heron", "--user", "mara", "--without", "user"], 2, "taken away at once"),
    (["node", "show"], 2, "NAME is missing"),
    (["config", "set", "conection.patience", "5m"], 2, "did you mean connection.patience?"),
    (["bundle", "make", "fen", "--output", "x.zip"], 2, "ends in .zip"),
    (["bundle", "make", "fen", "--output", "x.tar.xz"], 2, "ends in .tar.xz"),
    (["bundle", "unpack", "x.tar", "--size-limit", "huge"], 2, "'huge' is no size"),
    (["bundle", "make", "fen", "--cap-times-at", "inf"], 2, "'inf' is no time"),
    (["kept", "list", "heron:", "--older-than", "9" * 400 + "d"], 2, "is no duration"),
    (["practice", "--root", "p", "--fault", "oak:delay=1s"], 2, "nodes: heron, bittern"),
    (["practice", "--root", "p", "--fault", "heron:mood=bad"], 2, "unknown fault 'mood'"),
    (["demo", "fen"], 5, "is not empty"),
    (["list", "gone:"], 3, "connecting failed: connection refused"),
    (["list", "lost:"], 3, "finding its address failed"),
    (["list", "mail:"], 3, "no SSH server answered there"),
    (["list", "stranger:"], 3, "the server refused the login"),
    (["list", "unlocked:"], 3, "others may read"),
    (["list", "rubbish:"], 3, "the key cannot be used"),
    (["list", "vanished:"], 3, "the key cannot be used"),
    (["list", "bittern:"], 3, "bittern asks 'Password:', and there is no terminal to answer at"),
]


@pytest.fixture
def nodes(program: Program, practice: Practice, tmp_path: Path) -> Iterator[Program]:
    """Nodes with something wrong about each, and a little data."""
    heron, bittern = practice.far(), practice.far("bittern")
    program.know(heron)
    program.know(bittern)
    key = heron.add.index("--key") + 1

    def like_heron(name: str, key_file: Path | None = None, *, trusted: bool = True) -> None:
        words = [name if word == "heron" else word for word in heron.add]
        words[key] = str(key_file) if key_file else words[key]
        program(*(words if trusted else words[: words.index("--trust")]))

    keys = {name: tmp_path / name for name in ("stranger", "unlocked", "rubbish", "vanished")}
    shutil.copy(practice.site.host_key("bittern"), keys["stranger"])
    for name in ("unlocked", "vanished"):
        shutil.copy(practice.site.login_key, keys[name])
    keys["rubbish"].write_text("not a key\n")
    for name, file in keys.items():
        file.chmod(0o644 if name == "unlocked" else 0o600)
        like_heron(name, file)
    keys["vanished"].unlink()
    like_heron("new", trusted=False)
    program("node", "add", "gone", "127.0.0.1", "--port", "1")
    program("node", "add", "lost", "no-such-host.invalid")
    for directory in ("fen", "other/fen"):
        (program.directory / directory).mkdir(parents=True)
        (program.directory / directory / "a").write_text("no list\n")
    with socket.create_server(("127.0.0.1", 0)) as mail:
        threading.Thread(target=_greet, args=(mail,), daemon=True).start()
        program("node", "add", "mail", "127.0.0.1", "--port", str(mail.getsockname()[1]))
        yield program


def _greet(listener: socket.socket) -> None:
    """Some other service."""
    with contextlib.suppress(OSError):
        while True:
            connection, _ = listener.accept()
            with connection:
                connection.sendall(b"220 mail.fen.example\r\n")


def test_wrong_inputs(nodes: Program) -> None:
    told = {}
    for words, status, said in WRONG:
        done = nodes(*words, expect=None)
        whole = " ".join(done.stderr.split())
        if done.returncode != status or said not in whole or done.stdout.count("\n") > 6:
            told[" ".join(words)] = (done.returncode, done.stdout, done.stderr)
        elif done.stderr.startswith("yatagan: ") and len(done.stderr.splitlines()) > 2:
            told[" ".join(words)] = (done.returncode, "more than two lines", done.stderr)
    assert not told


def test_an_error_is_json_too(nodes: Program) -> None:
    """On standard output, with the same exit status; what is said on standard error stays."""
    for words, status, said in WRONG:
        if words[0] == "demo":
            continue  # it answers nothing that a script could use
        done = nodes(*words, "--json", expect=status)
        answer = json.loads(done.stdout)
        error = answer["error"]
        assert (answer["format"], answer["exit_status"], set(error)) == (
            JSON_FORMAT,
            status,
            {"kind", "message", "place", "remedy"} | ({"step"} if error["kind"] in REACHING else set()),
        )
        assert said in " ".join(f"{error['message']} {error['remedy']}".split()), (words, error)
        assert done.stderr.startswith(f"yatagan: {error['message']}")


def test_a_configuration_that_makes_no_sense(program: Program) -> None:
    for text, says in (
        ("[node.x]\naddress = 3", "address must be text"),
        ("[node.x]\naddress = 'h'\nport = 'p'", "port must be a number"),
        ("[node.x]\naddress = 'h'\nspeed = 1", "speed"),
        ("[node.x]\naddress = 'h'\nrole = 'boss'", "boss"),
        ("node = 3", "node is no table"),
        ("[node]\nx = 3", "is no table"),
        ("[node.x]\naddress = 'h'\narea = 3", "area is no table"),
        ("[node.x]\naddress = 'h'\n[node.x.area.y]\npath = '../..'", "leads out of the home"),
    ):
        (program.home / "nodes.toml").write_text(text)
        done = program("node", "list", expect=2)
        assert "nodes.toml" in done.stderr and says in done.stderr, text


@pytest.mark.server
def test_a_server_without_file_transfer(program: Program, openssh: OpenSsh, oak: Far, tmp_path: Path) -> None:
    (tmp_path / "server").mkdir()
    child, port = start_sshd(tmp_path / "server", sftp="/nonexistent/sftp-server")
    try:
        far = OpenSsh(tmp_path / "server", port, openssh.user).far(tmp_path)
        program.save(*far.add)
        done = program("list", "oak:", expect=3).stderr
        assert "starting file transfer failed" in done and "no file service" in done
    finally:
        child.terminate()
        child.wait(10)


#: How the shell is told where output goes, the status of a command that does well, and what is said of it.
TAKING_NOTHING = {
    ">&-": (0, ""),
    ">/dev/full": (1, "standard output cannot be written"),
    ">&- 2>&-": (0, ""),
    ">/dev/null 2>/dev/full": (0, ""),
    "<&- >&-": (0, ""),
    "| head -c 3": (0, ""),
}


@pytest.mark.parametrize("where", TAKING_NOTHING)
@pytest.mark.parametrize("words", ["list . --recursive", "stage fen dest", "stage fen dest --json", "stage gone dest"])
def test_output_that_nobody_takes_stops_nothing(
    program: Program, where: str, words: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A batch is carried to its end, the status is that of what was done, and nothing of ours is written elsewhere."""
    fen = program.directory / "fen"
    fen.mkdir()
    files = 300 if words.startswith("list") else 20
    for number in range(files):
        (fen / f"{number}.csv").write_text("1,2")
    status, said = TAKING_NOTHING[where]
    if words.startswith("list"):  # an interpreter of its own finds its streams closed before anything else
        monkeypatch.setenv("YATAGAN_TEST_EXEC", "1")
    done = program.shell(f"set -o pipefail; yatagan {words} {where}")
    if words.startswith("stage gone"):
        status, said = 2, "" if "2>" in where else "there is nothing there"
    assert done.returncode == status and said in done.stderr, done.stderr
    monkeypatch.undo()
    if words.startswith("stage fen"):
        assert len(list((program.directory / "dest" / "fen").iterdir())) == files
        assert program.json("batch", "show")["good"]
