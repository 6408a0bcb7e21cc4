"""The JSON answer of every command, as the survey's example gives them; and what each field of them is.

`make pages` writes docs/reference/json.md from both; tests/pages/test_json.py holds real answers against it.
"""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Callable, Iterator
from typing import Any

from conftest import Practice, Program, first_run
from terminal import Terminal, log_in

#: A field's type and meaning, by its name; or, where one answer means something else by it, by `ANSWER: field`.
FIELDS: dict[str, tuple[str, str]] = {
    "format": ("number", "1: the form of these answers; a new number when scripts would break"),
    "node": ("text", "the node's name; empty for this machine"),
    "name": ("text", "its short name"),
    "address": ("text or null", "host name or IP address; null through another machine"),
    "port": ("number or null", "port; null where `~/.ssh/config` or 22 decides"),
    "user": ("text or null", "account there; null where `~/.ssh/config` or yours decides"),
    "key": ("text or null", "private key file; null for the agent's and default keys"),
    "role": ("text", "`transfer` or `login`"),
    "start": ("text or null", "where relative paths start there; null for the account's home"),
    "trust": ("list", "pinned fingerprints of host keys"),
    "cluster": ("text or null", "nodes of one cluster see the same disks"),
    "logins": ("number or null", "logins at once for a batch; null for the default"),
    "max_rate_bytes_per_second": ("number or null", "limit on what batches take of the connection"),
    "areas": ("list", "named directories of the node, as `area list` answers"),
    "nodes": ("list", "saved nodes, as `node show` answers, each with `open`"),
    "open": ("object or null", "the login that its keeper holds; null when there is none"),
    "opened_at": ("time", "since when"),
    "closes_at": ("time", "until when"),
    "process": ("number", "the keeper's process id"),
    "batches": (
        "list",
        "the batches, as `batch show` answers without `steps`; "
        "of one whose journal is `damaged` or `unreadable` only its id, that `state` and the `detail`",
    ),
    "node open: batches": ("list", "batches that are carried over the login now"),
    "node list: batches": ("list", "batches that are carried over the login now"),
    "was_open": ("true or false", "whether there was a login to close"),
    "meaning": ("list", "what it means for a transfer, a clause each"),
    "host_key": ("text", "fingerprint of the host key"),
    "host_key_kind": ("text", "its type"),
    "login_methods": ("list", "ways to log in that the server offers"),
    "questions": ("number", "questions that the login asked"),
    "reach_seconds": ("number", "to reach the server"),
    "login_seconds": ("number", "to be logged in, without your typing"),
    "open_until_at": ("time or null", "when its keeper will log out; null when it is not open"),
    "server": ("text", "the server's software"),
    "cipher": ("text", "the cipher in use"),
    "read_request_bytes": ("number", "largest request to read"),
    "write_request_bytes": ("number", "largest request to write"),
    "extensions": ("list", "extensions of SFTP that are offered"),
    "sessions": ("number", "sessions at once that were tried and worked"),
    "more_sessions": ("true or false", "whether there may be more than that"),
    "commands": ("true or false", "whether the node runs commands"),
    "shell_seconds": ("number", "how long its shell took to start a command, or was waited for"),
    "why_no_commands": ("text or null", "if not, why"),
    "python": ("text or null", "the version of its Python"),
    "same_disk": ("true or false", "whether commands see the disk of file transfer"),
    "round_trip_seconds": ("number", "of one request and its answer"),
    "to_node_bytes_per_second": ("number or null", "measured rate; null where nothing can be written"),
    "from_node_bytes_per_second": ("number or null", "measured rate back"),
    "free_bytes": ("number or null", "free space; null where it is unknown"),
    "writable": ("true or false", "whether the start directory can be written"),
    "why_not_writable": ("text or null", "if not, why"),
    "clock_ahead_seconds": ("number or null", "how far its clock is ahead of this machine's"),
    "folds_case": ("true or false or null", "whether names that differ in case alone are one name there"),
    "takes_all_names": ("true or false or null", 'whether names may hold `: ? * " < > |`'),
    "left_behind": ("list", "directories with unfinished files of ended batches"),
    "path": ("text", "absolute path"),
    "backed_up": ("true or false or null", "null where it was not said"),
    "purged_after_seconds": ("number or null", "age at which the site removes files"),
    "read_only": ("true or false", "nothing is ever written there"),
    "shared": ("true or false", "a group works in it"),
    "note": ("text", "what else one must know"),
    "file": ("text", "where it is kept"),
    "connection": ("object", "settings of the connection"),
    "patience_seconds": ("number", "how long a lost connection is retried without progress"),
    "silence_seconds": ("number", "how long requests may stay without any answer"),
    "config show: connection.shell_seconds": ("number", "how long a node's shell may take to start a command"),
    "keepalive_seconds": ("number", "how often the connection is tested"),
    "processes": ("number", "that encrypt beside a batch's own"),
    "login_node": ("object", "from when on a stage through a login node gets a warning"),
    "time_seconds": ("number", "from this duration on"),
    "tree": ("object", "limits of reading"),
    "config show: tree.entries": ("number", "entries that one command reads before it asks"),
    "disk": ("object", "limits of writing"),
    "reserve_bytes": ("number", "what a stage leaves free"),
    "roots": ("object", "directories that links may lead to"),
    "readable": ("list", "for reading"),
    "config show: roots.writable": ("list", "for writing too"),
    "root": ("text", "absolute path of what was listed"),
    "bundle": ("text, optional", "the stored bundle that it was found in"),
    "entries": ("list", "entries; their `path` is relative to `root`"),
    "verify: entries": ("list", "entries that are not the same; their `path` is relative to the place"),
    "compare: entries": ("list", "entries that are not the same; their `path` is relative to the places"),
    "first": ("object", "the first place, and what is in it"),
    "second": ("object", "the second place, and what is in it"),
    "compare: first.path": ("text", "path as typed"),
    "compare: second.path": ("text", "path as typed"),
    "compare: first.directories": ("number", "directories, the place itself included"),
    "compare: second.directories": ("number", "directories, the place itself included"),
    "algorithms": ("list", "the algorithms of its manifests"),
    "valid": ("true or false", "whether it is complete and every checksum agrees"),
    "complete": ("true or false", "whether every file is there that should be, and its tag files are sound"),
    "bag check: version": ("text", "the version of BagIt; empty where it is unknown"),
    "bag check: path": ("text", "path as typed"),
    "info": ("list", "the lines of bag-info.txt"),
    "label": ("text", "the label"),
    "value": ("text", "its value"),
    "to_fetch": ("list", "files that fetch.txt lists, each with its `url`"),
    "url": ("text", "where it is to be had"),
    "problems": ("list", "what is wrong"),
    "clause": ("text", "the clause of RFC 8493"),
    "bag check: problems[].path": ("text", "the file that it is about; empty for the whole"),
    "bag check: problems[].reason": ("text", "what is wrong with it"),
    "peek: path": ("text", "path as typed"),
    "begins_at_byte": ("number or null", "where in the file it begins; null if that was not counted"),
    "shown_bytes": ("number", "how much is shown"),
    "peek: size_bytes": ("number or null", "size of the file; null where not all of it was unpacked"),
    "whole": ("true or false", "whether it is all of the file"),
    "line_cut": ("true or false", "whether a line is too long to be shown whole"),
    "packed": ("text or null", "`gzip`, `bzip2`, `xz` or `zstd`, of which it was unpacked"),
    "peek: text": ("text or null", "what is shown, if it is text in UTF-8"),
    "bytes_b64": ("text or null", "else its bytes, in base64"),
    "other_kinds": ("number", "what is neither file, directory nor link"),
    "digests_made": ("text or null", "where its files were hashed: [evidence](#evidence); null by size and time"),
    "compare: same": ("true or false", "whether both hold the same"),
    "contents_same": ("true or false", "whether they do, whatever modes (by digest also times)"),
    "by": ("text", "what decided: `size-and-time` or `digest`"),
    "totals_agree": ("true or false", "whether numbers and bytes agree"),
    "outcomes": ("object", "of each outcome the `count` of entries, and their bytes"),
    "compare: outcomes.same": ("object", "the same"),
    "compare: outcomes.different": ("object", "different in kind, size, contents or target, or by size and time"),
    "compare: outcomes.facts_differ": ("object", "different in mode, or by digest in time alone"),
    "compare: outcomes.unreadable": ("object", "what could not be read"),
    "only_first": ("object", "only in the first"),
    "only_second": ("object", "only in the second"),
    "pace": ("list", "seconds in which something happened; thinned where they are many"),
    "from_at": ("time", "from when"),
    "span_seconds": ("number", "for how long"),
    "batch show --rate-over-time: pace[].sent_bytes": ("number", "bytes that the connection carried"),
    "placed_bytes": ("number", "size of files that got their names"),
    "batch show --rate-over-time: pace[].files": ("number", "how many"),
    "batch show --rate-over-time: lost": ("list", "when the connection was lost"),
    "lost_at": ("time", "when"),
    "written": ("list", "the files that were written"),
    "report: batches": ("number", "batches that it is about"),
    "verifications": ("number", "verdicts that it is about"),
    "against_dataset": ("text or null", "the dataset that it was verified as"),
    "verify: recorded_at": ("time or null", "of a dataset: when it was last put on record"),
    "remembered": ("number", "files that an earlier run has read and that have not moved since"),
    "accepted": ("list", "what was accepted, in words"),
    "project show: name": ("text", "the project's name"),
    "project show: path": ("text", "its root"),
    "ledger": ("text or null", "the project's ledger; null without one"),
    "datasets": ("list", "its datasets, in the order of the file"),
    "dataset": ("text", "the dataset's name"),
    "stage: dataset": ("text, optional", "the dataset; with several `datasets` has an answer for each"),
    "use": ("text", "`input` or `result`"),
    "here": ("text", "its root on this machine"),
    "there": ("text", "its root on the node, as declared"),
    "project show: datasets[].not_good": ("list", "files that were not good [when last looked at as well](#evidence)"),
    "project show: datasets[].not_good[].path": ("text or null", "the file; null where they are not named"),
    "still_not_good": ("list", "of a dataset: what earlier verdicts found, and this one has not looked at as well"),
    "verify: still_not_good[].path": ("text or null", "the file; null where they are not named"),
    "end": ("text", "at which end of the dataset: `here` or `there`"),
    "finding": ("text or null", "what was wrong: `different`, `missing`, `moved`, `unreadable`, `facts differ`"),
    "more_files": ("number", "where `path` is null: how many files are not named"),
    "found_at": ("time", "when it was found"),
    "emptied": ("true or false", "whether all that was on record was gone when it was last staged"),
    "settled": ("true or false", "whether it was staged, is as it was then, and was not found wrong since"),
    "staged_at": ("time or null", "when it was last staged"),
    "staged_by": ("text or null", "by which account and machine"),
    "verified_at": ("time or null", "when it was last verified"),
    "verified_end": ("text or null", "`here` or `there`"),
    "verified_good": ("true or false or null", "with which outcome"),
    "verified_evidence": ("object", "by which [evidence](#evidence)"),
    "changed_here": ("object or null", "what has changed here since it was staged, by size and time"),
    "changed_there": ("object or null", "the same there; null where it was not looked at"),
    "there_unknown": ("text or null", "why it could not be looked at there"),
    "purge_due": ("text or null", "the day from which on the area may remove some of it"),
    "project show: datasets[].changed_here.same": ("number", "files and links that are as they were"),
    "newer": ("number", "with a later time"),
    "other": ("number", "with another size, target or kind, or an earlier time"),
    "project show: datasets[].changed_here.missing": ("number", "that are no longer there"),
    "project show: datasets[].changed_here.new": ("number", "that are not on record"),
    "restore: restored": ("list", "an answer for each tree that was meant"),
    "restore: restored[].name": ("text", "the dataset, or the path"),
    "as_on_record": ("number", "files that are as on record"),
    "lost": ("list", "what is missing or damaged; `path` is relative to its root"),
    "damaged": ("true or false", "whether it is there, with other contents"),
    "found": ("true or false", "whether a copy as on record was found"),
    "restore: restored[].left": ("list", "what is not as on record and stays, and the `reason`"),
    "without_digest": ("list", "missing files of which no digest is on record"),
    "restore: restored[].sources": ("list", "the copies that it comes from"),
    "restore: restored[].sources[].path": ("text", "the root of the copy"),
    "restore: restored[].sources[].kept": ("true or false", "whether these are files that were replaced, and kept"),
    "restore: restored[].sources[].entries": ("number", "how much comes from it"),
    "bad_copies": ("list", "files of copies that are not as on record"),
    "copy": ("text", "the root of the copy"),
    "earlier_versions": ("list", "lost files of which only an earlier version was found"),
    "restore: restored[].earlier_versions[].sha256": ("text", "its digest"),
    "not_asked": ("list", "nodes that could not be asked, and the `reason`"),
    "restore: restored[].batches": ("list", "the plan and the batch for each source, as `stage` answers"),
    "changed": ("true or false", "whether anything was written"),
    "edit: kept": ("text or null", "where what was there is kept; null if nothing changed"),
    "moved": ("object", "files with the same contents under another name"),
    "verify: counts.moved": (
        "number",
        "files, and the links and directories that went with them, that are there under names that are not listed",
    ),
    "count": ("number", "how many"),
    "compare: entries[].outcome": (
        "text",
        "`different`, `facts_differ`, `only_first`, `only_second`, `moved` or `unreadable`",
    ),
    "differs": ("list", "in what: `kind`, `size`, `contents`, `target`, `time`, `mode`"),
    "new_path": ("text, optional", "where it is now"),
    "compare: entries[].first": ("object or null", "what it is in the first"),
    "compare: entries[].second": ("object or null", "what it is in the second"),
    "remove: places[].entries": ("number", "entries at and below it"),
    "kind": ("text", "`file`, `directory`, `link`, `fifo`, `socket` or `device`"),
    "ledger show: records[].kind": ("text", "what it is about: `staged`, `listed`, `verified` and so on"),
    "error: error.kind": ("text", "what kind of error; see [below](#errors)"),
    "batch show: steps[].kind": ("text", "`file`, `directory`, `link`, `facts`, `bundle`, `archive` or `index`"),
    "size_bytes": ("number", "size of files; 0 for other kinds"),
    "modified_at": ("time", "modification time"),
    "mode": ("text", "permission bits, four octal digits"),
    "target": ("text, optional", "where a link leads"),
    "leads_nowhere": ("true or false, optional", "whether a link's target does not exist"),
    "recursive": ("true or false", "whether what is below directories was read too"),
    "files": ("number", "files"),
    "still_written": ("list", "files that are left for another time, because they are still being written"),
    "skipped": ("number", "entries that patterns left out"),
    "kept": ("list", "directories in which replaced files are kept"),
    "kept list: kept": ("list", "replaced files that are kept"),
    "kept list: kept[].kept": ("text", "where it is now"),
    "kept restore: restored[].kept": ("text", "where it was kept"),
    "kept_in_turn": ("text, optional", "where what had its name is kept now"),
    "replaced_at": ("time", "when it was replaced"),
    "restored": ("list", "files that were brought back"),
    "dropped": ("number", "names in listings that no directory can hold"),
    "dropped_names": ("list", "the first of these"),
    "repeated": ("number", "entries that a listing named more than once"),
    "unfinished": ("list", "unfinished files, which are no entries"),
    "unread": ("list", "what could not be read, and the `reason`"),
    "batch": ("text", "the batch's id"),
    "stage: batch": (
        "object or null",
        "the batch, as `batch show` answers without `steps`; null without one",
    ),
    "stage: batch.batch": ("text", "the batch's id"),
    "plan": ("object", "the plan"),
    "destination": ("text", "absolute path of the destination"),
    "names": ("list", "names under which the sources arrive"),
    "directories": ("number", "new directories of what arrives, the arriving ones themselves included"),
    "directories_above": ("number", "new directories above those: the destination, and what it is in"),
    "links": ("number", "symbolic links"),
    "bundled_files": ("number", "small files that travel together"),
    "bundles": ("number", "directories that were stored as bundles"),
    "stage: plan.bundles": ("list", "directories that are stored as bundles"),
    "gone": ("number", "entries that the new bundle will hold no more"),
    "left_as_is": ("number", "files that are right already"),
    "left_as_is_bytes": ("number", "their size"),
    "left_by_digest": ("number", "of these, compared by digest"),
    "left_by_digest_remembered": ("number", "of these, by a digest made earlier"),
    "facts_of_files": ("number", "files that are there with other modes or times, which are set"),
    "facts_of_directories": ("number", "directories likewise"),
    "replace": ("number", "files that replace others, which are kept"),
    "in_part": ("number", "files of which only changed parts are sent, where that is less"),
    "in_part_bytes": ("number", "their size"),
    "growing": ("number", "files that only grow, of those to be carried"),
    "growing_bytes": ("number", "their size, as far as they are carried"),
    "growing_there_bytes": ("number", "how much of that is there already and need not be sent"),
    "not_carried": ("number", "entries of kinds that are not carried, or newer there"),
    "in_the_way": ("number", "names taken by something of another kind"),
    "name_clashes": ("number", "names that are one name at the destination"),
    "newer_there": ("number", "files that are left because they are newer there"),
    "stage: plan.gone": ("object or null", "of a dataset: what is on record and no longer at its source"),
    "stage: plan.gone.files": ("number", "files and links"),
    "stage: plan.gone.size_bytes": ("number", "their size"),
    "stage: plan.gone.recorded_at": ("time", "when they were last put on record"),
    "asked_because": ("text or null", "why a person is asked first: `nothing is left`, `so many`, `another disk`"),
    "on_record": ("true or false", "whether it goes on record that they are gone"),
    "stage: plan.gone.first": ("list", "the first of them"),
    "unreadable": ("number", "entries that could not be read"),
    "verify: counts.unreadable": ("number", "entries that could not be read"),
    "not_kept": (
        "object or null",
        "counts of what does not arrive: set_ids, hard_links, access_lists, extended_attributes",
    ),
    "begun": ("object or null", "an earlier batch of the same: its id, its use, in_place, safe_bytes"),
    "proof": ("text or null", "the evidence that files will be proven by; `sent` for none"),
    "expected_seconds": ("number or null", "how long it should take, by what is known of the connection"),
    "cautions": ("list", "warnings, each with what it is `about` and its `text`"),
    "state": ("text", "`queued`, `moving`, `held`, `needs a login`, `interrupted`, `cancelled` or `finished`"),
    "batch show: steps[].state": ("text", "[the state of the step](states.md)"),
    "good": ("true or false", "whether everything is as it should be"),
    "reason": ("text or null", "why not, in one word"),
    "carried_now": ("true or false", "whether a process carries it now"),
    "carrier": ("object or null", "that process: its number as `process`, and its `host`"),
    "rate_bytes_per_second": ("number or null", "how fast it moves; null where nothing does"),
    "queue": ("object or null", "its place in the queue; null if it is not there"),
    "config show: queue": ("object", "the queue of batches in the background"),
    "at_once": ("number", "that are carried at once"),
    "batches_at_once": ("number", "queued batches that are carried over it at once"),
    "ahead": ("number", "batches before it that wait as well"),
    "waits_for": ("text or null", "`connection`, `login`, `other host` or `journal`; null if only for its turn"),
    "retry_at": ("time or null", "when it is tried again"),
    "failures": ("number", "how often its node could not be reached, or its journal be read"),
    "sources": ("list", "what is carried: absolute paths"),
    "config show: notice": ("object", "the settings of notices"),
    "mail": ("text or null", "who gets a mail"),
    "smtp": ("text or null", "where it is handed in; null for the machine's sendmail"),
    "password_command": ("text or null", "the command that prints the password for that"),
    "config show: notice.command": ("text or null", "the command that gets a summary"),
    "desktop": ("true or false", "whether the desktop shows it"),
    "config show: notice.when": ("text", "`finished`, `trouble` or `always`"),
    "deliveries": ("list", "one for each way that is set"),
    "way": ("text", "`mail`, `command` or `desktop`"),
    "notice test: deliveries[].to": ("text", "an address, or your command"),
    "sent": ("true or false", "whether it went"),
    "why_not": ("text or null", "if not, why"),
    "service show: way": ("text", "`systemd` or `crontab`"),
    "service install: way": ("text", "`systemd` or `crontab`"),
    "installed": ("true or false", "whether it is installed"),
    "current": ("true or false", "whether as this version would install it"),
    "where": ("list", "files, or `the crontab`"),
    "runs_without_login": ("true or false", "whether it runs when you are not logged in"),
    "last_run_at": ("time or null", "when it ran last"),
    "service install: text": ("text", "what is written there"),
    "service remove: removed": ("true or false", "whether it was installed, and is not any more"),
    "routine": ("text", "the routine's name"),
    "words": ("list", "what was typed for it, after the command"),
    **{
        f"routine {name}: command": ("text", "`stage`, `verify`, `compare` or `checksums`")
        for name in ("add", "show", "hold", "resume")
    },
    "routine list: routines[].command": ("text", "`stage`, `verify`, `compare` or `checksums`"),
    **{f"routine {name}: directory": ("text", "where it runs") for name in ("add", "show", "hold", "resume")},
    "routine list: routines[].directory": ("text", "where it runs"),
    "schedule": ("text", "when it runs: `every 15m`, `at 02:30`"),
    "until_at": ("time or null", "its end; null for none"),
    "held": ("true or false", "whether it is held"),
    "due_at": ("time", "when it runs next"),
    "trouble": ("text or null", "what is wrong since it last went well"),
    "runs": ("list", "its last runs, oldest first"),
    "routines": ("list", "the routines"),
    "began_at": ("time", "when it began"),
    "ended_at": ("time or null", "when it ended; null while it goes on"),
    "routine run: outcome": ("text", "`moved`, `nothing new`, `good`, `not good`, `failed`, `broken off` or `running`"),
    **{
        f"routine {answer}": ("text", "`moved`, `nothing new`, `good`, `not good`, `failed`, `broken off` or `running`")
        for answer in (
            "hold: runs[].outcome",
            "show: runs[].outcome",
            "resume: runs[].outcome",
            "list: routines[].runs[].outcome",
        )
    },
    "routine run: batch": ("text or null", "the batch that it has made; null where nothing was new"),
    **{
        f"routine {answer}": ("text or null", "the batch that it has made; null where nothing was new")
        for answer in (
            "hold: runs[].batch",
            "show: runs[].batch",
            "resume: runs[].batch",
            "list: routines[].runs[].batch",
        )
    },
    "left_out": ("number", "runs that were due while it went on"),
    "routine remove: removed": ("true or false", "whether it is forgotten"),
    "log": ("list", "[what happened to it](formats.md#the-log-of-a-batch), oldest first"),
    "command": ("list", "what was typed, word by word"),
    "made_at": ("time", "when it was accepted"),
    "from_node": ("text", "the source's node; empty for this machine"),
    "to_node": ("text", "the destination's node; empty for this machine"),
    "in_place": ("number", "files with their final names"),
    "in_place_bytes": ("number", "their size"),
    "waiting": ("number", "files that are still to come"),
    "waiting_bytes": ("number", "their size"),
    "safe_bytes": ("number", "of that, what is on the destination's disk already"),
    "failed": ("number", "steps that failed"),
    "remove: failed": ("list", "what could not be removed, and the `reason`"),
    "kept restore: failed": ("list", "what could not be brought back, and the `reason`"),
    "kept remove: failed": ("list", "what could not be removed, and the `reason`"),
    "parts remove: failed": ("list", "what could not be removed, and the `reason`"),
    "failed_files": ("number", "of these, files"),
    "replaced": ("number", "files that took the name of others, which are kept"),
    "facts_set": ("number", "files and directories of which modes and times alone were set"),
    "facts_refused": ("number", "files and directories that refused that"),
    "bundles_bytes": ("number", "their size"),
    "sent_bytes": ("number", "what the connection carried"),
    "sent_again_bytes": ("number", "of that, what had been sent before"),
    "reused_bytes": ("number", "what was copied from the files that were replaced"),
    "zeros_bytes": ("number", "zeros that were left out, as holes"),
    "evidence": ("object", "how many files are known by which [evidence](#evidence)"),
    "moving_seconds": ("number", "how long it has been moving, in all its runs"),
    "ledger_record": ("text or null", "its record in the ledger"),
    "ledger_digest": ("text or null", "the record's digest, to be noted on paper; null while it waits"),
    "ledger_waits": ("text or null", "why the record is not in the ledger yet"),
    "ledger_lost": ("text or null", "why there is no record, and will be none"),
    "ledger_unsigned": ("text or null", "why the record is not signed, if it should be"),
    "steps": ("list", "the steps that are not in place"),
    "step": ("number", "number of the step"),
    "detail": ("text", "what belongs to the reason, such as a path; mostly empty"),
    "removed_parts": ("number", "unfinished files that were removed"),
    "removed": ("number", "how many were removed"),
    "batch remove: removed": ("list", "ids of batches that are forgotten"),
    "refused": ("list", "batches that are not, each with its id and the reason"),
    "removed_bytes": ("number", "their size"),
    "left": ("number", "that stay, because a batch may need them"),
    "parts": ("list", "unfinished files"),
    "owner": ("text", "the account that owns it"),
    "prospect": ("text", "`needed`, `dead` or `unknown`: whether a batch will finish it"),
    "outcome": ("text", "`good`, or what was not"),
    "list": ("text", "absolute path of the checksum list"),
    "ledger show: records[].list": ("text, optional", "digest of the checksum list of the files, in `lists/`"),
    "list_node": ("text", "the node that the list is on; empty for this machine"),
    "against": ("text or null", "the checksum list; null against a batch"),
    "against_node": ("text or null", "the node that it is on; empty for this machine"),
    "against_batch": ("text or null", "the batch, if it was verified against one"),
    "time_step_ns": ("number", "how finely times could be compared, in nanoseconds"),
    "contents_checked": ("true or false", "whether contents were looked at; not by size and time"),
    "contents_good": ("true or false", "whether all contents are good, whatever modes and times"),
    "facts_checked": ("true or false", "whether there was a facts file with modes, times and links"),
    "counts": ("object", "entries by verdict"),
    "bundle unpack: counts": ("object", "members by what came of them"),
    "same": ("number", "entries that are the same"),
    "different": ("number", "entries with other contents, or of another kind"),
    "missing": ("number", "entries that are not there"),
    "not_listed": ("number", "entries that the list does not name"),
    "facts_differ": ("number", "entries of which only mode or time differ"),
    "verdict": ("text", "`different`, `missing`, `moved`, `unreadable`, `facts differ` or `not listed`"),
    "made": ("list", "directories that were missing"),
    "new": ("text", "its new path"),
    "places": ("list", "what was to be removed"),
    "index": ("text", "the index beside it"),
    "archive": ("text", "`tar`, `tar.gz` or `tar.zst`"),
    "level": ("number", "how hard it was compressed"),
    "members": ("number", "members"),
    "bundle list: members": ("list", "the members"),
    "bundle unpack: members": ("list", "members that were not simply unpacked: `outcome` and `reason`"),
    "bundle_bytes": ("number", "size of the bundle"),
    "bundle_sha256": ("text", "its SHA-256"),
    "seconds": ("number", "how long it took"),
    "not_bundled": ("list", "what is neither file, directory nor link"),
    "sha256": ("text, optional", "digest of a file, from the index"),
    "has_index": ("true or false", "whether there is an index that fits"),
    "damage": ("list", "where it is damaged: `at_byte` of its contents, and the `reason`"),
    "bundle list: damage": ("text", "where and how it is damaged; empty when it is not"),
    "into": ("text", "absolute path of the directory that it was unpacked into"),
    "into_node": ("text", "the node that it is on; empty for this machine"),
    "checked_by_index": ("number", "files that were compared with their digests in the index"),
    "fetched_bytes": ("number", "what was read of the archive and its index"),
    "set_id_bits_left_out": ("number", "members that lost a set-id bit"),
    "differences": ("list", "members that differ from the index: `path` and `verdict`"),
    "directory": ("text", "the ledger's directory"),
    "config show: ledger": ("object", "the ledger"),
    "sign_with": ("text or null", "the SSH key that signs records; null for none"),
    "ledger show: waiting": ("number", "records that this machine could not write yet"),
    "ledger show: records": ("list", "the records as they are kept; [every field](formats.md#the-ledger)"),
    "ledger show: records[].from": ("list, optional", "from where: `node`, empty for the machine itself, and `path`"),
    "ledger show: records[].to": ("object, optional", "to where: `node` and `path`"),
    "ledger show: records[].counts": ("object, optional", "how many, by what became of them"),
    "ledger show: records[].command": ("list, optional", "what was typed, word by word"),
    "ledger show: records[].evidence": ("object, optional", "how many files are known by which [evidence](#evidence)"),
    "ledger show: records[].batch": ("text, optional", "the batch's id"),
    "ledger show: records[].against": ("object, optional", "the checksum list that was verified against"),
    "ledger show: records[].against_sha256": ("text, optional", "its digest"),
    "before_sha256": ("text, optional", "of an edit: the digest of what was there"),
    "facts": ("text, optional", "digest of the facts of its entries, in `lists/`"),
    "arrived_as": ("list, optional", "the names that the sources got, if others than their own"),
    "ledger show: records[].project": ("text, optional", "the project whose dataset it is"),
    "ledger show: records[].dataset": ("text, optional", "the dataset"),
    "ledger show: records[].towards": ("text, optional", "where it went: `here` or `there`"),
    "from_disk": ("text, optional", "the disk that a dataset came from"),
    "ledger show: records[].at": ("text, optional", "at which end it was verified"),
    "to_identity": ("text, optional", "which directory the destination was at the last look: `inode 1311753`"),
    "looked_at": ("time, optional", "when all that it claims was last found there"),
    "ledger show: records[].not_good": ("list, optional", "of a verdict: the files that were not good"),
    "ledger show: records[].not_good[].path": ("text", "the file, below the place"),
    "ledger show: records[].modes": ("text, optional", "`site` where modes did not arrive as they were"),
    "ledger show: records[].times": ("text, optional", "`now` where times did not"),
    "ledger show: records[].archive": ("text, optional", "`tar`, `tar.gz` or `tar.zst`"),
    "ledger show: records[].bundle_bytes": ("number, optional", "size of the bundle"),
    "ledger show: records[].bundle_sha256": ("text, optional", "its SHA-256"),
    "version": ("text", "the version of Yatagan that wrote it"),
    "writer": ("text", "whose file it is in"),
    "number": ("number", "its number in that file"),
    "previous": ("text", "digest of the record before it in that file; empty for the first"),
    "others": ("object, optional", "newest records of other writers' files, as `number` and `digest`"),
    "signature": ("text, optional", "SSH signature of all other fields, in base64"),
    "unsigned": ("text, optional", "why it has no signature, if one was asked for"),
    "ledger check: good": ("true or false", "whether all is as it was written"),
    "ledger check: records": ("number", "records that were checked"),
    "ledger check: lists": ("number", "checksum lists that were checked"),
    "findings": ("list", "what is wrong"),
    "ledger check: findings[].file": ("text or null", "the writer's file"),
    "ledger check: findings[].problem": ("text", "what is wrong; [all of them](formats.md#findings)"),
    "ledger check: findings[].first": ("number or null", "the first record of which it is said, by number"),
    "ledger check: findings[].last": ("number or null", "the last one"),
    "ledger check: findings[].line": ("number or null", "the line of the file"),
    "ledger check: findings[].record": ("text or null", "the record's id"),
    "ledger check: findings[].detail": ("text or null", "the reason of a bad signature, the file of a fork, a list"),
    "witness_file": ("text or null", "who has seen otherwise: another file's record, or `this machine`"),
    "witness_record": ("number or null", "that record's number"),
    "signed_by": ("object", "how many records each trusted person has signed"),
    "signed_by_unknown": ("object", "the same by fingerprint, while no key is trusted"),
    "not_signed": ("number", "records without a signature"),
    "ledger check: files": ("list", "the writers' files"),
    "ledger check: files[].records": ("number", "records in it"),
    "seen_to": ("number", "up to this record another writer or this machine has seen it"),
    "signed_to": ("number", "up to this record it is signed"),
    "forks_accepted": ("list", "two continuations of a file that were accepted, and by whom"),
    "ledger check: skipped": ("list", "what is there and belongs to no ledger: `name` and `what`"),
    "lines_not_read": ("list", "lines of allowed_signers and revoked_keys that are not understood"),
    "newest_digest": ("text or null", "digest of the newest record"),
    "ledger merge: records": ("number", "records that were brought"),
    "lists": ("number", "checksum lists that were brought"),
    "forks": ("list", "files with another continuation of a writer's file"),
    "ledger merge: refused": (
        "list",
        "files that were left out, and the first `record` that does not fit",
    ),
    "ledger accept: record": ("number", "the first record that differs"),
    "fingerprint": ("text", "of the key"),
    "ledger trust: name": ("text", "whose key it is"),
    "keys": ("list", "the trusted keys"),
    "ledger signers: keys[].names": ("list", "whose key it is"),
    "valid_after_at": ("time or null", "from when on it holds"),
    "valid_before_at": ("time or null", "until when"),
    "revoked": ("true or false", "whether it is revoked"),
    "id": ("text", "the record's id"),
    "recorded_at": ("time", "when it was written"),
    "who": ("text", "account and machine"),
    "digest": ("text", "SHA-256 of the record"),
    "error": ("object", "the error"),
    "message": ("text", "what happened, and to what"),
    "place": ("text", "what it happened to; empty where that is no place"),
    "remedy": ("text", "what to do next; empty where there is no advice"),
    "exit_status": ("number", "[the exit status](exit-statuses.md)"),
    "practice: nodes": ("list", "the practice nodes"),
    "practice: nodes[].root": ("text", "the directory in which logins to it start"),
    "add": ("list", "the command that saves it, word by word"),
    "pid": ("number or null", "the process that serves the practice nodes"),
}
#: Fields that are not looked into: their keys are data.
LEAVES = {"evidence", "not_kept", "begun", "bundle unpack: counts", "open", "others", "signed_by", "signed_by_unknown"}
LEAVES |= {"carrier", "batch log: log", "verified_evidence", "restore: restored[].batches"}
LEAVES |= {f"ledger show: records[].{key}" for key in ("from", "to", "counts", "against")}


_KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHAFPTN8lTSUt8PQoSkRX9pyCV7HvRFCtSTjVgyJe/lI"


def answers(program: Program, practice: Practice) -> Iterator[tuple[str, list[str], Any]]:
    """(Title, words, answer) of every command, in an order in which each has something to answer."""
    heron, bittern = practice.far(), practice.far("bittern")
    words: list[str] = []

    def run(*given: str, expect: int = 0) -> Any:
        words[:] = given
        return program.json(*given, expect=expect)

    program("node", "remove", "heron", expect=None)
    yield "node add", words, run(*heron.add)
    yield "node change", words, run("node", "change", "heron", "--max-rate", "200MB/s")
    yield "node show", words, run("node", "show", "heron")
    program.save(*bittern.add)
    log_in(terminal := Terminal(program, "node", "open", "bittern"), practice)
    assert terminal.end() == 0
    yield "node list", words, run("node", "list")
    yield "node open", words, run("node", "open", "bittern", "--for", "4h")
    yield "node close", words, run("node", "close", "bittern")
    yield "node check", words, run("node", "check", "heron")
    yield "node remove", words, run("node", "remove", "bittern")
    area = "area", "add", "heron", "scratch", str(heron.root / "scratch"), "--not-backed-up", "--purged-after", "30d"
    yield "area add", words, run(*area)
    yield "area change", words, run("area", "change", "heron", "scratch", "--purged-after", "60d")
    yield "area list", words, run("area", "list", "heron")
    yield "area remove", words, run("area", "remove", "heron", "scratch")
    yield "config show", words, run("config", "show")
    yield "list", words, run("list", "fen/notes")
    yield "stage", words, run("stage", "fen", "heron:campaign")
    yield "peek", words, run("peek", "heron:campaign/fen/stations.csv", "--lines", "3")
    yield "batch list", words, run("batch", "list")
    _interrupt(program)
    yield "batch show", words, run("batch", "show")
    ended = next(
        each for each in program.json("batch", "list")["batches"] if each["state"] == "finished" and each["in_place"]
    )
    yield "batch show --rate-over-time", words, run("batch", "show", ended["batch"], "--rate-over-time")
    yield "batch hold", words, run("batch", "hold", program.json("batch", "list")["batches"][0]["batch"])
    yield "batch log", words, run("batch", "log")
    yield "parts list", words, run("parts", "list", "heron:again")
    yield "batch cancel", words, run("batch", "cancel", program.json("batch", "list")["batches"][0]["batch"])
    yield "parts remove", words, run("parts", "remove", "heron:again", "--yes")
    yield "batch remove", words, run("batch", "remove", program.json("batch", "list")["batches"][0]["batch"])
    (program.directory / "fen" / "notes" / "week-1.txt").write_text("mended: the chamber of plot 3 leaked\n")
    program("stage", "fen", "heron:campaign", "--if-newer-there", "replace")
    yield "batch resume", words, run("batch", "resume")
    yield "batch watch", words, run("batch", "watch", program.json("batch", "list")["batches"][0]["batch"])
    yield "service run", words, run("service", "run")
    if shutil.which("crontab"):
        yield "service install", words, run("service", "install", "--print")
        yield "service show", words, run("service", "show")
        yield "service remove", words, run("service", "remove", "--print")
    yield from _routine(program, run, words)
    program("config", "set", "notice.command", "cat > told.json")
    yield "notice test", words, run("notice", "test")
    program("config", "set", "notice.command", "")
    yield "kept list", words, run("kept", "list", "heron:campaign")
    yield "kept restore", words, run("kept", "restore", "heron:campaign/fen/notes/week-1.txt")
    yield "kept remove", words, run("kept", "remove", "heron:campaign", "--yes")
    yield "checksums", words, run("checksums", "heron:campaign/fen")
    (heron.root / "campaign" / "fen" / "notes" / "week-1.txt").chmod(0o600)
    yield "verify", words, run("verify", "heron:campaign/fen", expect=1)
    (heron.root / "campaign" / "fen" / "notes" / "week-2.txt").rename(heron.root / "campaign" / "fen" / "week-2.txt")
    (program.directory / "fen" / "notes" / "now").symlink_to("week-1.txt")
    yield "compare", words, run("compare", "fen", "heron:campaign/fen", "--by", "digest", expect=1)
    yield "mkdir", words, run("mkdir", "heron:campaign/2026")
    yield "rename", words, run("rename", "heron:campaign/2026", "july")
    yield "remove", words, run("remove", "heron:campaign/july", "--yes")
    yield "bag make", words, run("bag", "make", "fen/notes", "--output", "notes-bag", "--skip", "now")
    (program.directory / "notes-bag" / "data" / "week-1.txt").write_text("mended again\n")
    yield "bag check", words, run("bag", "check", "notes-bag", expect=1)
    yield "bundle make", words, run("bundle", "make", "fen/notes", "--output", "notes.tar.zst")
    yield "bundle list", words, run("bundle", "list", "notes.tar.zst")
    yield "bundle check", words, run("bundle", "check", "notes.tar.zst")
    yield "bundle unpack", words, run("bundle", "unpack", "notes.tar.zst", "--into", "back")
    yield "report", words, run("report", "--output", "fen.html")
    yield from _project(program, practice, run, words)
    yield from _ledger(program, run, words)
    yield "practice", words, run("practice", "--root", str(practice.site.root))
    yield "error", words, run("list", "hern:", expect=2)


def _project(
    program: Program, practice: Practice, run: Callable[..., Any], words: list[str]
) -> Iterator[tuple[str, list[str], Any]]:
    """The answers about datasets of a project; about what is restored; and about an edit."""
    yield "project new", words, run("project", "new", "fen-flux")
    (program.directory / "yatagan.toml").write_text(
        '[project]\nname = "fen-flux"\n[dataset.notes]\nuse = "input"\nhere = "fen/notes"\nthere = "heron:notes-2026"\n'
    )
    yield "project accept", words, run("project", "accept")
    program("stage", "--dataset", "notes")
    program("verify", "--dataset", "notes")
    notes = program.directory / "fen" / "notes"
    (notes / "week-3.txt").unlink()
    (notes / "week-4.txt").write_text("still being written\n")
    (practice.site.home("heron") / "notes-2026" / "week-2.txt").unlink()
    (notes / "week-2.txt").unlink()
    yield "project show", words, run("project", "show", expect=1)
    yield "restore", words, run("restore", "--dataset", "notes", expect=1)
    (program.directory / "yatagan.toml").unlink()
    editor = program.directory / "editor"
    editor.write_text("#!/bin/sh\necho 'and the pump of plot 7' >> \"$1\"\n")
    editor.chmod(0o755)
    os.environ["VISUAL"] = str(editor)
    yield "edit", words, run("edit", "heron:notes-2026/week-1.txt")
    del os.environ["VISUAL"]


def _routine(program: Program, run: Callable[..., Any], words: list[str]) -> Iterator[tuple[str, list[str], Any]]:
    """The answers of the routines' commands. This one is due by itself only once while they are asked for."""
    yield "routine add", words, run("routine", "add", "fen", "fen", "heron:campaign", "--at", "03:30")
    first_run(program, "fen")
    yield "routine hold", words, run("routine", "hold", "fen")
    yield "routine run", words, run("routine", "run", "fen")
    yield "routine resume", words, run("routine", "resume", "fen")
    yield "routine list", words, run("routine", "list")
    yield "routine show", words, run("routine", "show", "fen")
    yield "routine remove", words, run("routine", "remove", "fen")


def _ledger(program: Program, run: Callable[..., Any], words: list[str]) -> Iterator[tuple[str, list[str], Any]]:
    """The answers of the ledger's commands; two machines have written, and one of them was restored from a backup."""
    (program.directory / "jo.pub").write_text(f"{_KEY} jo\n")
    yield "ledger show", words, run("ledger", "show", "--since", "1h")
    yield "ledger trust", words, run("ledger", "trust", "jo", "jo.pub", "--until", "2027-12-31")
    yield "ledger revoke", words, run("ledger", "revoke", "jo.pub")
    yield "ledger signers", words, run("ledger", "signers")
    shutil.copytree(program.home / "ledger", program.directory / "copy")
    (name,) = (program.directory / "copy" / "writers").iterdir()
    program("rename", "jo.pub", "jo-old.pub")
    *others, last = name.read_bytes().splitlines(keepends=True)
    name.write_bytes(b"".join([*others, last.replace(b'"outcome":"good"', b'"outcome":"sure"')]))
    merged = run("ledger", "merge", "copy")
    yield "ledger merge", words, merged
    yield "ledger check", words, run("ledger", "check", expect=1)
    yield "ledger accept", words, run("ledger", "accept", merged["forks"][0], "--yes")
    assert program.json("ledger", "check")["good"]


def _interrupt(program: Program) -> None:
    """Leave a batch with an unfinished file."""
    from conftest import wait_for

    (program.directory / "raw.bin").write_bytes(bytes(range(256)) * 80_000)
    running = program.start("stage", "raw.bin", "heron:again", "--max-rate", "3MB/s")
    wait_for(lambda: any(part["size_bytes"] > 200_000 for part in _parts(program)))
    running.kill()
    running.wait()


def _parts(program: Program) -> list[dict[str, Any]]:
    done = program("parts", "list", "heron:again", "--json", expect=None)
    return list(json.loads(done.stdout).get("parts", []))


def fields(title: str, answer: Any, above: str = "") -> Iterator[tuple[str, Any]]:
    """(Path of a field, value) of an answer, with `[]` for what is in lists. Objects whose keys are data are leaves."""
    for key, value in answer.items():
        path = f"{above}{key}"
        yield path, value
        if key in LEAVES or f"{title}: {path}" in LEAVES:
            continue
        if isinstance(value, dict):
            yield from fields(title, value, f"{path}.")
        elif isinstance(value, list):
            for each in value:
                if isinstance(each, dict):
                    yield from fields(title, each, f"{path}[].")


def field(title: str, path: str) -> tuple[str, str]:
    """The type and the meaning of a field. Raises KeyError."""
    name = re.split(r"[.\]]+", path)[-1]
    short = name.removesuffix("_b64")
    for key in (f"{title}: {path}", f"{title}: {name}", name, short):
        if key in FIELDS:
            return FIELDS[key]
    raise KeyError(f"{title}: {path}")


_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z")


def fits(kind: str, value: Any) -> bool:
    """Whether a value is of a type of `FIELDS`."""
    kinds = kind.removesuffix(", optional").replace("true or false", "flag").split(" or ")
    return any(_fits(each, value) for each in kinds)


def _fits(kind: str, value: Any) -> bool:
    match kind:
        case "null":
            return value is None
        case "flag":
            return isinstance(value, bool)
        case "number":
            return isinstance(value, int | float) and not isinstance(value, bool)
        case "time":
            return isinstance(value, str) and _TIME.fullmatch(value) is not None
        case "text":
            return isinstance(value, str)
        case "list":
            return isinstance(value, list)
        case "object":
            return isinstance(value, dict)
    return False
