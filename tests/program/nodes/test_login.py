"""Getting in: host keys, the user's SSH files, passwords and one-time codes."""

from __future__ import annotations

import base64
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, part_file, wait_for
from secrets_left import traces
from terminal import Terminal, log_in


def without_trust(add: list[str]) -> list[str]:
    return add[: add.index("--trust")]


def test_an_unknown_key_is_an_error_that_says_how_to_trust_it(program: Program, practice: Practice) -> None:
    far = practice.far()
    program(*without_trust(far.add))
    done = program("list", "heron:", expect=3)
    assert practice.site.fingerprint("heron") in done.stderr and "--trust" in done.stderr
    program.save(*far.add)
    program("list", "heron:")
    program.save(*without_trust(far.add))
    program("list", "heron:")  # it is known now


def test_a_trusted_fingerprint_that_does_not_fit_lets_nobody_in(program: Program, practice: Practice) -> None:
    far = practice.far()
    program(*without_trust(far.add), "--trust", practice.site.fingerprint("bittern"))
    assert practice.site.fingerprint("heron") in program("list", "heron:", expect=3).stderr


def test_the_key_is_shown_and_asked_about(program: Program, practice: Practice) -> None:
    far = practice.far()
    program(*without_trust(far.add))
    refused = Terminal(program, "list", "heron:")
    refused.expect(practice.site.fingerprint("heron"))
    refused.expect("?")
    refused.type("n")
    assert refused.end() == 3
    accepted = Terminal(program, "list", "heron:")
    accepted.expect("?")
    accepted.type("y")
    assert accepted.end() == 0
    assert Terminal(program, "list", "heron:").end() == 0


def ssh_files(program: Program, server: OpenSsh, hosts: str, more: str = "") -> Path:
    """The user's own SSH files, in which these names stand for a server; the file of known keys, not yet written."""
    ssh = program.home / ".ssh"
    ssh.mkdir(mode=0o700)
    (ssh / "config").write_text(
        f"Host {hosts}\n  HostName 127.0.0.1\n  Port {server.port}\n  User {server.user}\n"
        f"  IdentityFile {server.base}/login\n{more}"
    )
    return ssh / "known_hosts"


def known_line(server: OpenSsh) -> str:
    kind, key, *_ = (server.base / "host.pub").read_text().split()
    return f"[127.0.0.1]:{server.port} {kind} {key}\n"


@pytest.mark.server
def test_the_users_own_ssh_files_are_honoured(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    known = ssh_files(program, openssh, "oakalias")
    program("node", "add", "oak", "oakalias", "--start", str(tmp_path))
    assert program("list", "oak:", expect=3).stderr.count("SHA256:") >= 1
    known.write_text(known_line(openssh))
    program("list", "oak:")
    assert not (program.home / "known_hosts").exists()


@pytest.mark.server
def test_a_node_behind_another_one(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """ProxyJump of the user's SSH files."""
    ssh_files(program, openssh, "gate inner", "Host inner\n  ProxyJump gate\n").write_text(known_line(openssh))
    (tmp_path / "far").mkdir()
    (program.directory / "a").write_text("a")
    program("node", "add", "inner", "inner", "--start", str(tmp_path / "far"))
    program("stage", "a", "inner:")
    assert (tmp_path / "far" / "a").read_text() == "a"


def test_refusals_name_the_step(program: Program, practice: Practice, tmp_path: Path) -> None:
    far = practice.far()
    shutil.copy(practice.site.host_key("bittern"), tmp_path / "wrong-key")
    (tmp_path / "wrong-key").chmod(0o600)
    add = list(far.add)
    add[add.index("--key") + 1] = str(tmp_path / "wrong-key")
    program(*add)
    assert "logging in failed" in program("list", "heron:", expect=3).stderr
    program("node", "add", "gone", "127.0.0.1", "--port", "1")
    assert "connecting failed" in program("list", "gone:", expect=3).stderr
    program("node", "add", "lost", "no-such-host.invalid")
    assert "finding its address failed" in program("list", "lost:", expect=3).stderr


def test_nobody_to_answer_is_an_error_that_names_the_prompt(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    assert "'Password:'" in program("list", "bittern:", expect=3).stderr
    terminal = Terminal(program, "list", "bittern:", "--no-questions")
    assert terminal.end() == 3 and "'Password:'" in terminal.seen


def test_password_and_code_once_for_the_whole_stage(program: Program, practice: Practice) -> None:
    far = practice.far("bittern")
    program.know(far)
    fen = program.directory / "fen"
    fen.mkdir()
    for number in range(5):
        (fen / f"{number}.csv").write_bytes(os.urandom(5000))
    code = practice.site.codes.read_text().split()[0]
    terminal = Terminal(program, "stage", "fen", "bittern:data", "--prove", "read-back")
    log_in(terminal, practice, code)
    assert terminal.end() == 0
    assert terminal.seen.count("asks:") == 2
    assert "read back, hashed here" in terminal.seen.replace("\r\n", " ")
    assert sorted(os.listdir(far.root / "data" / "fen")) == sorted(os.listdir(fen))
    assert code not in practice.site.codes.read_text().split(), "a code works once"
    again = Terminal(program, "stage", "fen", "bittern:data")
    log_in(again, practice)
    assert again.end() == 0 and "Nothing to move" in again.seen


def test_a_wrong_answer_is_said_to_be_wrong(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    for opened in (False, True):
        words = ("node", "open", "bittern") if opened else ("list", "bittern:")
        terminal = Terminal(program, *words)
        terminal.expect("Password:")
        assert "did not accept" not in terminal.seen
        terminal.type("wrong")
        terminal.expect("bittern did not accept that")
        log_in(terminal, practice)
        assert terminal.end() == 0 and terminal.seen.count("did not accept") == 1
    program("node", "close", "bittern")
    terminal = Terminal(program, "list", "bittern:")
    for _ in range(6):
        terminal.expect("Password:")
        terminal.type("wrong")
    assert terminal.end() == 3
    assert "left" not in terminal.seen and "did not accept what was answered" in terminal.seen


def test_a_wrong_pass_phrase_is_said_to_be_wrong(program: Program, practice: Practice, tmp_path: Path) -> None:
    key = tmp_path / "locked"
    shutil.copy(practice.site.login_key, key)
    subprocess.run(["ssh-keygen", "-q", "-p", "-N", "right", "-f", str(key)], check=True)
    far = practice.far()
    far.add[far.add.index("--key") + 1] = str(key)
    program.know(far)
    terminal = Terminal(program, "list", "heron:")
    for phrase in ("wrong", "right"):
        terminal.expect("Pass phrase of the key")
        terminal.type(phrase)
    assert terminal.end() == 0 and "that does not open the key: 2 tries left" in terminal.seen


def test_no_secret_is_anywhere(program: Program, practice: Practice, tmp_path: Path) -> None:
    """Password, code and pass phrase: not on disk, not in a process that others see, during and after."""
    secrets_used = [practice.site.password.read_text(), practice.site.codes.read_text().split()[0]]
    # The search itself finds what is hidden.
    (program.home / "leak").write_bytes(base64.b64encode(b"x" + secrets_used[0].encode() + b"y"))
    assert traces(secrets_used[0], program.home) == [str(program.home / "leak")]
    (program.home / "leak").unlink()

    program.know(practice.far("bittern"))
    (program.directory / "big").write_bytes(os.urandom(4_000_000))
    practice.wrong("bittern", max_rate="1MB", cut_after="2MB")
    terminal = Terminal(program, "stage", "big", "bittern:")
    log_in(terminal, practice, secrets_used[1])
    terminal.expect("of 4.00 MB")
    assert [traces(secret, program.home) for secret in secrets_used] == [[], []]
    terminal.expect("the connection was lost")
    secrets_used.append(practice.site.codes.read_text().split()[0])
    log_in(terminal, practice, secrets_used[2])
    assert terminal.end() == 0
    practice.wrong("bittern")

    phrase, key = "a phrase / with + signs", tmp_path / "locked"
    shutil.copy(practice.site.login_key, key)
    subprocess.run(["ssh-keygen", "-q", "-p", "-N", phrase, "-f", str(key)], check=True)
    far = practice.far()
    far.add[far.add.index("--key") + 1] = str(key)
    program.know(far)
    terminal = Terminal(program, "stage", "big", "heron:")
    terminal.expect("Pass phrase")
    terminal.type(phrase)
    assert terminal.end() == 0
    assert [traces(secret, program.home) for secret in (*secrets_used, phrase)] == [[]] * 4


def test_a_wait_for_an_approval_does_not_look_like_a_hang(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    practice.wrong("bittern", approve_after="6s")
    terminal = Terminal(program, "list", "bittern:")
    log_in(terminal, practice)
    terminal.expect("bittern says: Approve this login on your phone.")
    terminal.expect("bittern has not accepted the login yet (")
    assert terminal.end() == 0 and "empty" in terminal.seen


def test_a_lost_line_asks_again_where_there_is_somebody(program: Program, practice: Practice) -> None:
    far, terminal = _stage_over_a_cut(program, practice)
    terminal.expect("the connection was lost")
    log_in(terminal, practice)
    assert terminal.end() == 0 and "the connection is back" in terminal.seen
    assert (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


@pytest.mark.parametrize("typed", ["\x03", "\x04"], ids=["Ctrl-C", "Ctrl-D"])
def test_a_login_that_nobody_answers_leaves_the_batch_waiting_for_one(
    program: Program, practice: Practice, typed: str
) -> None:
    far, terminal = _stage_over_a_cut(program, practice)
    terminal.expect("asks: Password:")
    terminal.press(typed)
    assert terminal.end() in (3, 4) and "batch resume" in terminal.seen and "Traceback" not in terminal.seen
    assert program.json("batch", "show")["state"] in ("needs a login", "interrupted")
    assert "'Password:'" in program("batch", "resume", expect=3).stdout
    assert program.json("batch", "show")["state"] == "needs a login"
    again = Terminal(program, "batch", "resume")
    log_in(again, practice)
    assert again.end() == 0
    assert (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


def test_password_and_code_as_one_word(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    practice.wrong("bittern", one_word="yes")
    terminal = Terminal(program, "list", "bittern:")
    terminal.expect("Password and code in one word:")
    terminal.type(practice.site.password.read_text() + practice.site.codes.read_text().split()[0])
    assert terminal.end() == 0 and "empty" in terminal.seen


RESOLVER = """
import itertools, socket
resolve, turns = socket.getaddrinfo, itertools.count()

def getaddrinfo(host, *more, **named):
    found = [resolve(each, *more, **named)[0] for each in ("127.0.0.1", "127.0.0.2")]
    return (found if next(turns) % 2 == 0 else found[::-1]) if host == "fens.example" else resolve(host, *more, **named)

socket.getaddrinfo = getaddrinfo
"""


def test_a_batch_stays_on_one_machine_of_a_cluster(
    program: Program, practice: Practice, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A name with two addresses, which come in another order every time: the batch waits for the one it began at."""
    far = practice.far()
    program(*far.add[:3], "fens.example", *far.add[4:])
    (tmp_path / "python").mkdir()
    monkeypatch.setenv("PYTHONPATH", str(tmp_path / "python"))
    (program.directory / "big").write_bytes(os.urandom(6_000_000))
    (tmp_path / "python" / "sitecustomize.py").write_text(RESOLVER)
    practice.wrong("heron", max_rate="3MB")
    stage = program.start("stage", "big", "heron:")
    wait_for(lambda: part_file(far.root, 500_000) is not None)
    practice.wrong("heron", away="127.0.0.1")
    batch = program.json("batch", "show")["batch"]
    log = program.home / "batches" / batch / "log.jsonl"
    wait_for(lambda: log.read_text().count("connection-lost") >= 2)  # it tries again, and nowhere else
    practice.wrong("heron", away="127.0.0.2")
    assert stage.wait(30) == 0, stage.communicate()
    assert (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


def test_a_changed_key_of_a_practice_node(program: Program, practice: Practice) -> None:
    program.know(practice.far())
    program("list", "heron:")
    program.save(*without_trust(practice.far().add))
    practice.wrong("heron", other_key="yes", sessions="1")
    wait_for(lambda: program("list", "heron:", expect=None).returncode == 3)
    assert "another host key than before" in program("list", "heron:", expect=3).stderr
    practice.wrong("heron", sessions="1")
    wait_for(lambda: program("list", "heron:", expect=None).returncode == 0)
    assert "one at a time" in program("node", "check", "heron").stdout


def test_a_used_code_is_refused(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    terminal = Terminal(program, "list", "bittern:")
    log_in(terminal, practice, "000000")
    for _ in range(8):
        try:
            terminal.expect("asks:", seconds=3)
        except AssertionError:
            break
        terminal.type("wrong")
    assert terminal.end() == 3 and "did not accept what was answered" in terminal.seen


def _stage_over_a_cut(program: Program, practice: Practice) -> tuple[Far, Terminal]:
    """A stage that has logged in once, and whose line will be cut."""
    far = practice.far("bittern")
    program.know(far)
    (program.directory / "big").write_bytes(os.urandom(3_000_000))
    practice.wrong("bittern", max_rate="2MB", cut_after="1MB")
    terminal = Terminal(program, "stage", "big", "bittern:")
    log_in(terminal, practice)
    return far, terminal
