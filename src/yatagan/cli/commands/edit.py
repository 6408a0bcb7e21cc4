"""`yatagan edit`: a small change to a file where it is, with the editor of one's own."""

from __future__ import annotations

import asyncio
import hashlib
import os
import posixpath
import shlex
import shutil
import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

from yatagan.batches.batch_store import new_name
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.words.messages import explain
from yatagan.cli.words.record_words import record_row, warn_of
from yatagan.config.own_files import make_private
from yatagan.errors import BadPlace, LineLost, Refused, StoreError
from yatagan.faults import Fault
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.places import Place, name_fields
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.stores.interface import Store
from yatagan.trees.editing import LARGEST, ChangedMeanwhile, Original, Tie, fetch, write_back


@click.command(
    "edit",
    epilog="""\b
Examples:
  yatagan edit heron:runs/july/model.cfg
  VISUAL='vim -n' yatagan edit heron:runs/july/model.cfg""",
)
@click.argument("place", shell_complete=shell_completion.places)
@no_questions
@as_json
def edit_command(place: str, no_questions: bool, json_: bool) -> None:
    """Edit the file PLACE, here or on a node, with the editor that VISUAL or EDITOR names.

    A copy is edited, and written back whole under the name of the file; what was there is kept. If the file changed
    meanwhile, or would lose its owner, group, access list or other names, it stays as it is, and your copy is kept.
    """
    app = App.start(questions=not no_questions)
    editor = shlex.split(os.environ.get("VISUAL") or os.environ.get("EDITOR") or "vi")
    if not editor or shutil.which(editor[0]) is None:
        named = text.show(editor[0]) if editor else "the editor"
        raise Refused(f"{named} is no command of this machine", "name an editor: EDITOR=nano yatagan edit PLACE")
    run(_Edit(app, app.place(place), editor, json_=json_).run())


class _Edit:
    """One edit, from the file to the file."""

    def __init__(self, app: App, where: Place, editor: list[str], *, json_: bool) -> None:
        self._app = app
        self._where = where
        self._editor = editor
        self._json = json_
        self._copy = Path()

    async def run(self) -> None:
        """Fetch, edit, write back. Raises Refused where it cannot be written back, StoreError."""
        store = await self._app.open(self._app.source(self._where, writing=True))
        try:
            original = await self._fetch(store)
            self._may_be_written(original)
            with self._beside(original) as copy:
                await self._edit(copy)
                data = self._edited(copy)
                if data == original.data:
                    self._tell(original, "")
                    return
                try:
                    kept = await self._write_back(store, original, data)
                except (Refused, StoreError) as error:
                    raise self._keeping(copy, error) from error
            self._tell(original, kept, data)
        finally:
            await store.close()

    async def _fetch(self, store: Store) -> Original:
        try:
            original = await fetch(store, self._where.path)
        except StoreError as error:
            if error.fault is Fault.UNSUPPORTED:
                what = f"it is larger than the {LARGEST // 1_000_000} MB that are edited"
                raise BadPlace(str(self._where), what, "stage it here, and back") from error
            if error.fault in (Fault.IS_DIRECTORY, Fault.SPECIAL):
                look = f"look with: {text.command('list', self._where)}"
                raise BadPlace(str(self._where), f"it is a {error.detail}", look) from error
            raise
        if self._where.node:
            await refuse_read_only(store, self._app.nodes().get(self._where.node), original.path)
        return original

    def _may_be_written(self, original: Original) -> None:
        """Raise Refused before anything is edited that cannot be written back."""
        if original.ties:
            raise _would_lose(self._named(original), original.ties)
        if original.all_known:
            return
        what = f"{self._where.node} runs no commands, so an access list or further names of the file cannot be seen"
        if not (self._app.questions.attended and confirm(f"{what}, and would be lost. Edit it anyway?")):
            raise Refused(what, "stage the file here, edit it, and stage it back")

    def _named(self, original: Original) -> str:
        return text.place(self._where.node, original.path)

    @contextmanager
    def _beside(self, original: Original) -> Iterator[Path]:
        """A copy for the editor, under the name of the file in a directory of its own; removed unless it is needed."""
        directory = self._app.home.state / "edits" / new_name()
        make_private(directory)
        copy = directory / os.fsdecode(posixpath.basename(original.path))
        self._copy = copy
        descriptor = os.open(copy, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(original.data)
        try:
            yield copy
        except BaseException:
            if copy.exists() and copy.read_bytes() != original.data:
                raise
            shutil.rmtree(directory, ignore_errors=True)
            raise
        shutil.rmtree(directory, ignore_errors=True)

    async def _edit(self, copy: Path) -> None:
        """Run the editor. Ctrl-C is its business. Raises Refused when it fails."""
        # Not SIG_IGN, which the editor would inherit.
        before = signal.signal(signal.SIGINT, lambda number, frame: None)
        try:
            # In a thread, so that the connection is kept meanwhile.
            status = await asyncio.to_thread(subprocess.call, [*self._editor, str(copy)])
        finally:
            signal.signal(signal.SIGINT, before)
        if status:
            raise Refused(f"{text.show(self._editor[0])} ended with status {status}, so nothing was written back")

    def _edited(self, copy: Path) -> bytes:
        """What the editor has left. Raises Refused where that is no file."""
        try:
            return copy.read_bytes()
        except (FileNotFoundError, IsADirectoryError):
            why = f"{text.show(self._editor[0])} has removed the copy that it was to edit, so nothing was written back"
            raise Refused(why) from None

    async def _write_back(self, store: Store, original: Original, data: bytes) -> str:
        """Write back, after a new login if the connection was lost. Returns where the original is kept."""
        try:
            kept, lost = await write_back(store, original, data, new_name())
        except ChangedMeanwhile:
            why = f"{self._named(original)} changed while you edited it, and stays as it is now"
            raise Refused(why) from None
        except StoreError as error:
            if not isinstance(error, LineLost):
                raise
            again = await self._app.open(self._app.source(self._where, writing=True))
            try:
                kept, lost = await write_back(again, original, data, new_name())
            except ChangedMeanwhile:
                why = f"the connection was lost, and {self._named(original)} is no longer what you edited"
                raise Refused(why) from None
            finally:
                await again.close()
        if lost:
            raise _would_lose(self._named(original), tuple(lost))
        return os.fsdecode(kept)

    def _keeping(self, copy: Path, error: Refused | StoreError) -> Refused:
        """The error with what becomes of the copy."""
        known = explain(error)
        return Refused(known.message, f"your copy is kept: {text.show(str(copy))}")

    def _tell(self, original: Original, kept: str, data: bytes | None = None) -> None:
        """Say what was done, and put it on record."""
        named = {"node": self._where.node, **name_fields(original.path), "changed": data is not None}
        if data is None:
            if self._json:
                say_json({**named, "kept": None, **record_json(None)})
            else:
                terminal.say("Nothing was changed.")
            return
        digest = hashlib.sha256(data).hexdigest()
        record = put_on_record(
            self._app,
            Done(
                RecordKind.EDITED,
                "good",
                origins=(RecordedPlace(self._where.node, posixpath.dirname(original.path)),),
                counts={"files": 1},
                size=len(data),
                details={"before_sha256": original.digest},
            ),
            lambda: [(posixpath.basename(original.path), digest)],
        )
        if self._json:
            say_json({**named, **name_fields(os.fsencode(kept), "kept"), **record_json(record)})
        else:
            terminal.say(terminal.style(f"Wrote {self._named(original)}", bold=True))
            before = text.place(self._where.node, os.fsencode(kept))
            text.facts(
                [
                    ("size", f"{text.size(len(data))}, before {text.size(len(original.data))}"),
                    ("kept", before),
                    record_row(record),
                ]
            )
        warn_of(record)


def _would_lose(name: str, ties: tuple[Tie, ...]) -> Refused:
    """The error where a file would lose something."""
    return Refused(f"{name} would lose {' and '.join(ties)} by an edit, so it stays as it is")
