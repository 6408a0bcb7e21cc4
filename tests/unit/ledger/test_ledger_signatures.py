"""Signatures of records: the OpenSSH key tool checks ours, and we check what it has made."""

from __future__ import annotations

import base64
import json
import os
import random
import re
import shutil
import socket
import subprocess
import tempfile
import threading
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import ALL_NEEDED
from ledgers import World, heads, judge, random_world, tamper
from yatagan.ledger.appending import CannotSign, Unsigned
from yatagan.ledger.checking import Check
from yatagan.ledger.findings import Checked, Problem
from yatagan.ledger.records import canonical
from yatagan.ledger.signatures import NAMESPACE, BadSignature, Signature, SignatureFault, armoured, decode, encode
from yatagan.ledger.signers import add_revoked, add_trusted, parse_trusted, public_key
from yatagan.ledger.signing import KeySigner

pytestmark = pytest.mark.skipif(shutil.which("ssh-keygen") is None and not ALL_NEEDED, reason="no OpenSSH key tool")


def tool(*words: str | Path, input: bytes = b"", expect: int = 0) -> str:
    done = subprocess.run([str(word) for word in words], input=input, capture_output=True, timeout=60)
    assert (done.returncode == 0) == (expect == 0), done
    return (done.stdout + done.stderr).decode()


def new_key(directory: Path, name: str, kind: str = "ed25519", phrase: str = "") -> Path:
    bits = ["-b", "2048"] if kind == "rsa" else []
    tool("ssh-keygen", "-q", "-t", kind, *bits, "-N", phrase, "-C", name, "-f", directory / name)
    return directory / name


def public(key: Path) -> bytes:
    return public_key(key.with_name(key.name + ".pub").read_text())


@pytest.fixture(scope="module")
def keys(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    place = tmp_path_factory.mktemp("keys")
    made = {kind: new_key(place, kind, kind) for kind in ("ed25519", "ecdsa", "rsa")}
    return {**made, "other": new_key(place, "other"), "locked": new_key(place, "locked", phrase="moor and fen")}


@pytest.fixture
def agent(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A real SSH agent; what it is to hold is added by ssh-add."""
    place = Path(tempfile.mkdtemp(prefix="yatagan-agent-"))
    process = subprocess.Popen(["ssh-agent", "-D", "-a", str(place / "s")], stdout=subprocess.DEVNULL)
    while not (place / "s").exists():
        assert process.poll() is None
    yield place / "s"
    process.terminate()
    process.wait()
    shutil.rmtree(place)


def signed_world(place: Path, signer: KeySigner, count: int = 2) -> World:
    world = World(place, 1, (signer,))
    for _ in range(count):
        world.append(0)
    return world


def message_of(line: bytes) -> tuple[bytes, bytes]:
    """What is signed in a record, and the signature."""
    record = json.loads(line)
    signature = base64.b64decode(record.pop("signature"))
    return canonical(record), signature


@pytest.mark.parametrize("kind", ["ed25519", "ecdsa", "rsa"])
def test_the_key_tool_checks_what_we_have_signed(tmp_path: Path, keys: dict[str, Path], kind: str) -> None:
    world = signed_world(tmp_path, KeySigner(keys[kind], ""))
    add_trusted(world.directory, "mara", public(keys[kind]), None, None)
    checked = world.check()
    assert checked.good and checked.signers == {"mara": 2} and checked.ends[0].signed == 2
    message, signature = message_of(world.lines(world.file(0))[1])
    (tmp_path / "sig").write_text(armoured(signature))
    verify: list[str | Path] = ["ssh-keygen", "-Y", "verify", "-f", world.directory.allowed_signers, "-I", "mara"]
    tool(*verify, "-n", NAMESPACE, "-s", tmp_path / "sig", input=message)
    tool(*verify, "-n", NAMESPACE, "-s", tmp_path / "sig", input=message + b" ", expect=255)
    tool(*verify, "-n", "file", "-s", tmp_path / "sig", input=message, expect=255)
    found = tool("ssh-keygen", "-Y", "find-principals", "-f", world.directory.allowed_signers, "-s", tmp_path / "sig")
    assert found.split() == ["mara"]
    add_revoked(world.directory, public(keys[kind]))
    revoked: list[str | Path] = ["-r", world.directory.revoked_keys]
    tool(*verify, "-n", NAMESPACE, "-s", tmp_path / "sig", *revoked, input=message, expect=255)


@pytest.mark.parametrize("kind", ["ed25519", "ecdsa", "rsa"])
@pytest.mark.parametrize("hash", ["sha256", "sha512"])
def test_we_check_what_the_key_tool_has_signed(tmp_path: Path, keys: dict[str, Path], kind: str, hash: str) -> None:
    world = World(tmp_path, 1)
    world.append(0)
    (line,) = world.lines(world.file(0))
    armour = tool_signature(tmp_path, keys[kind], line, NAMESPACE, hash)
    assert armoured(encode(decode(armour))) == armoured(armour), "nothing is lost on the way"
    put_signature(world, armour)
    add_trusted(world.directory, "jo", public(keys[kind]), None, None)
    checked = world.check()
    assert checked.good and checked.signers == {"jo": 1}


def tool_signature(place: Path, key: Path, message: bytes, namespace: str, hash: str = "sha512") -> bytes:
    """A signature by the key tool, without its armour."""
    (place / "message").write_bytes(message)
    (place / "message.sig").unlink(missing_ok=True)
    tool("ssh-keygen", "-Y", "sign", "-f", key, "-n", namespace, "-O", f"hashalg={hash}", place / "message")
    return base64.b64decode("".join((place / "message.sig").read_text().splitlines()[1:-1]))


def put_signature(world: World, signature: bytes) -> None:
    """Put a signature into the only record."""
    name = world.file(0)
    (line,) = world.lines(name)
    world.write(name, [canonical({**json.loads(line), "signature": base64.b64encode(signature).decode()})])


class TestRefused:
    """Each with a word."""

    @pytest.fixture
    def world(self, tmp_path: Path) -> World:
        world = World(tmp_path, 1)
        world.append(0)
        return world

    def refusal(self, world: World) -> str:
        (found,) = world.check().findings
        assert found.problem is Problem.BAD_SIGNATURE and found.first == 1
        return found.detail

    def sign(self, world: World, key: Path, namespace: str = NAMESPACE) -> None:
        (line,) = world.lines(world.file(0))
        put_signature(world, tool_signature(world.root, key, line, namespace))

    def trust(self, world: World, key: Path, after: str = "", before: str = "", options: str = "") -> None:
        if options:
            line = key.with_name(key.name + ".pub").read_text()
            world.directory.allowed_signers.write_text(f"mara {options} {line}")
            return
        moments = (datetime.fromisoformat(each).replace(tzinfo=UTC) if each else None for each in (after, before))
        add_trusted(world.directory, "mara", public(key), *moments)

    def test_a_wrong_key(self, world: World, keys: dict[str, Path]) -> None:
        self.trust(world, keys["ed25519"])
        self.sign(world, keys["other"])
        assert self.refusal(world) == SignatureFault.UNKNOWN_KEY

    def test_a_revoked_key(self, world: World, keys: dict[str, Path]) -> None:
        self.trust(world, keys["ed25519"])
        add_revoked(world.directory, public(keys["ed25519"]))
        self.sign(world, keys["ed25519"])
        assert self.refusal(world) == SignatureFault.REVOKED

    @pytest.mark.parametrize(
        ("after", "before", "why"),
        [
            ("", "2026-11-27T10:00:00", SignatureFault.TOO_LATE),
            ("2026-11-27T11:00:00", "", SignatureFault.TOO_EARLY),
            ("2026-11-27T09:00:00", "2026-11-27T11:00:00", None),
        ],
    )
    def test_a_key_outside_its_validity(
        self, world: World, keys: dict[str, Path], after: str, before: str, why: SignatureFault | None
    ) -> None:
        """As of the time of the record; the key tool agrees."""
        self.trust(world, keys["ed25519"], after, before)
        self.sign(world, keys["ed25519"])
        message, signature = message_of(world.lines(world.file(0))[0])
        (world.root / "sig").write_text(armoured(signature))
        words: list[str | Path] = [
            "-f",
            world.directory.allowed_signers,
            "-I",
            "mara",
            "-n",
            NAMESPACE,
            "-s",
            world.root / "sig",
        ]
        time = "verify-time=20261127100001Z"
        tool("ssh-keygen", "-Y", "verify", *words, "-O", time, input=message, expect=255 if why else 0)
        if why is None:
            assert world.check().good
        else:
            assert self.refusal(world) == why

    def test_a_wrong_namespace(self, world: World, keys: dict[str, Path]) -> None:
        self.trust(world, keys["ed25519"])
        self.sign(world, keys["ed25519"], "file")
        assert self.refusal(world) == SignatureFault.OTHER_NAMESPACE

    def test_a_key_that_is_trusted_for_something_else(self, world: World, keys: dict[str, Path]) -> None:
        self.trust(world, keys["ed25519"], options='namespaces="git,file"')
        self.sign(world, keys["ed25519"])
        assert self.refusal(world) == SignatureFault.KEY_NOT_FOR_LEDGERS

    def test_another_record_s_signature(self, world: World, keys: dict[str, Path]) -> None:
        self.trust(world, keys["ed25519"])
        put_signature(world, tool_signature(world.root, keys["ed25519"], b"something else", NAMESPACE))
        assert self.refusal(world) == SignatureFault.DAMAGED

    @pytest.mark.parametrize("data", [b"", b"SSHSIG", b"SSHSIG\0\0\0\1\xff\xff\xff\xff", b"SSHSIG\0\0\0\2", b"x" * 200])
    def test_what_is_no_signature(self, world: World, keys: dict[str, Path], data: bytes) -> None:
        self.trust(world, keys["ed25519"])
        put_signature(world, data)
        assert self.refusal(world) == SignatureFault.NOT_UNDERSTOOD

    def test_nobody_is_trusted(self, world: World, keys: dict[str, Path]) -> None:
        """Then a signature says only which key has made it."""
        self.sign(world, keys["ed25519"])
        checked = world.check()
        assert checked.good and not checked.signers and sum(checked.unknown.values()) == 1
        assert checked.ends[0].signed == 0

    @given(st.binary(max_size=300))
    def test_nothing_but_our_own_error_comes_of_nonsense(self, data: bytes) -> None:
        for each in (data, b"SSHSIG\0\0\0\1" + data):
            try:
                decode(each)
            except BadSignature:
                continue


@given(st.integers(0, 1 << 32))
@settings(max_examples=20)
def test_signed_records_need_no_witness(keys: dict[str, Path], seed: int) -> None:
    """Any change of a byte is found, the newest record's too. Only an end that nobody has seen can be cut off."""
    chance, signer = random.Random(seed), KeySigner(keys["ed25519"], "")
    with tempfile.TemporaryDirectory() as place:
        world = random_world(Path(place), chance, [signer] * 3)
        add_trusted(world.directory, "mara", public(keys["ed25519"]), None, None)
        assert world.check().good
        remembered = heads(world)
        done = tamper(world, chance)
        unseen_end = done.what in ("cut", "no file") or (done.what == "remove" and not done.shows)
        judge(world.check(), done, seen=bool(done.shows) if unseen_end else bool(done.records))
        judge(Check(world.directory, remembered, set(remembered)).run(), done, seen=bool(done.records))


class TestSigning:
    """By a key file or the agent, and never by one that somebody has to be there for."""

    def world(self, place: Path, signer: KeySigner) -> tuple[World, Checked]:
        world = signed_world(place, signer)
        return world, world.check()

    def why(self, place: Path, signer: KeySigner) -> str:
        """Why the records have no signature."""
        world, checked = self.world(place, signer)
        assert checked.good and checked.unsigned == 2
        (why,) = {json.loads(line)["unsigned"] for line in world.lines(world.file(0))}
        return str(why)

    @pytest.mark.parametrize("given", ["locked", "locked.pub"])
    def test_the_agent_signs_with_a_key_that_has_a_pass_phrase(
        self, tmp_path: Path, keys: dict[str, Path], agent: Path, given: str
    ) -> None:
        key = keys["locked"].with_name(given)
        assert self.why(tmp_path / "1", KeySigner(key, str(agent))) == Unsigned.NOT_IN_AGENT
        ask = {"DISPLAY": ":0", "SSH_ASKPASS_REQUIRE": "force", "SSH_ASKPASS": str(tmp_path / "ask")}
        (tmp_path / "ask").write_text("#!/bin/sh\necho moor and fen\n")
        (tmp_path / "ask").chmod(0o700)
        environment = {**os.environ, **ask, "SSH_AUTH_SOCK": str(agent)}
        subprocess.run(["ssh-add", "-q", keys["locked"]], env=environment, check=True)
        _, checked = self.world(tmp_path / "2", KeySigner(key, str(agent)))
        assert checked.good and not checked.unsigned and sum(checked.unknown.values()) == 2

    def test_the_agent_signs_with_rsa(self, tmp_path: Path, keys: dict[str, Path], agent: Path) -> None:
        environment = {**os.environ, "SSH_AUTH_SOCK": str(agent)}
        subprocess.run(["ssh-add", "-q", keys["rsa"]], env=environment, check=True)
        signer = KeySigner(keys["rsa"].with_name("rsa.pub"), str(agent))
        world, _ = self.world(tmp_path, signer)
        add_trusted(world.directory, "mara", public(keys["rsa"]), None, None)
        assert world.check().signers == {"mara": 2}

    def test_an_agent_that_waits_for_somebody(self, tmp_path: Path, keys: dict[str, Path], agent: Path) -> None:
        """As with a key that needs leave for each use, and nobody there to give it."""
        with socket.socket(socket.AF_UNIX) as silent:
            silent.bind(str(agent.with_name("silent")))
            silent.listen()
            signer = KeySigner(keys["other"].with_name("other.pub"), str(agent.with_name("silent")), seconds=0.3)
            assert self.why(tmp_path, signer) == Unsigned.AGENT_SILENT

    def test_an_agent_that_talks_nonsense(self, tmp_path: Path, keys: dict[str, Path], agent: Path) -> None:
        with socket.socket(socket.AF_UNIX) as odd:
            odd.bind(str(agent.with_name("odd")))
            odd.listen()

            def answer() -> None:
                connection, _ = odd.accept()
                connection.sendall(b"\0\0\0\1\5")
                connection.close()

            thread = threading.Thread(target=answer)
            thread.start()
            signer = KeySigner(keys["other"].with_name("other.pub"), str(agent.with_name("odd")), seconds=5)
            assert self.why(tmp_path, signer) == Unsigned.AGENT_REFUSED
            thread.join()

    def test_without_what_it_needs(self, tmp_path: Path, keys: dict[str, Path]) -> None:
        (tmp_path / "garbage").write_text("what\n")
        token = "sk-ssh-ed25519@openssh.com"
        data = len(token).to_bytes(4, "big") + token.encode()
        data += (32).to_bytes(4, "big") + os.urandom(32) + (4).to_bytes(4, "big") + b"ssh:"
        (tmp_path / "token.pub").write_text(f"{token} {base64.b64encode(data).decode()} token\n")
        cases = {
            tmp_path / "missing": Unsigned.KEY_MISSING,
            tmp_path: Unsigned.KEY_UNREADABLE,
            tmp_path / "garbage": Unsigned.KEY_UNREADABLE,
            tmp_path / "token.pub": Unsigned.NEEDS_TOUCH,
            keys["locked"]: Unsigned.NO_AGENT,
            keys["other"].with_name("other.pub"): Unsigned.NO_AGENT,
        }
        for key, why in cases.items():
            for agent in ("", str(tmp_path / "no agent here")):
                with pytest.raises(CannotSign) as caught:
                    KeySigner(key, agent).sign(b"message")
                assert caught.value.why is why, key


def test_lines_of_an_allowed_signers_file(keys: dict[str, Path]) -> None:
    key = keys["ed25519"].with_name("ed25519.pub").read_text().strip()
    plain = parse_trusted(f"mara {key}")
    assert plain.names == ("mara",) and plain.key == public(keys["ed25519"]) and plain.after is None
    full = parse_trusted(
        f'mara,jo namespaces="yatagan-ledger,file",valid-after="20260101Z",valid-before="202712312359Z" {key}'
    )
    assert full.names == ("mara", "jo") and full.namespaces == ("yatagan-ledger", "file")
    assert full.after == datetime(2026, 1, 1, tzinfo=UTC) and full.before == datetime(2027, 12, 31, 23, 59, tzinfo=UTC)
    for odd in (
        "mara",
        f"mara cert-authority {key}",
        f'mara valid-after="soon" {key}',
        "mara ssh-ed25519 AAAA",
        f"mara {key[:30]}",
    ):
        with pytest.raises(ValueError):
            parse_trusted(odd)


def test_the_page_s_recipes_check_by_hand(tmp_path: Path, keys: dict[str, Path]) -> None:
    world = signed_world(tmp_path, KeySigner(keys["ed25519"], ""), 13)
    world.append(0, listed=True)
    add_trusted(world.directory, "mara", public(keys["ed25519"]), None, None)
    page = Path(__file__).parents[3].joinpath("docs", "reference", "formats.md").read_text(encoding="utf-8")
    recipes = re.findall(r"```sh\n(.*?)```", page.partition("### Checking by hand")[2], re.DOTALL)
    script = "set -e\n" + "".join(recipes).replace("mara-0c5d1f2e3a4b5c6d.jsonl", world.file(0))
    done = subprocess.run(["sh", "-c", script], cwd=world.directory.path, capture_output=True, text=True, check=True)
    digest, previous, verdict = done.stdout.splitlines()
    assert previous == f'"previous":"{digest.split()[0]}"' and verdict.startswith(
        'Good "yatagan-ledger" signature for mara'
    )


@given(st.binary(max_size=60), st.text(max_size=20), st.binary(max_size=60))
def test_a_signature_is_read_as_it_was_written(key: bytes, namespace: str, value: bytes) -> None:
    signature = Signature(key, namespace, b"sha512", value)
    assert decode(encode(signature)) == signature
