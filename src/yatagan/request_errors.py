"""What is wrong with a request, as types: it is asked for what cannot be."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from yatagan.errors import YataganError


class WrongRequest(YataganError):
    """It is asked for what cannot be. `about`: the place, batch, dataset or routine that this is about."""

    def __init__(self, about: str, what: str) -> None:
        super().__init__(f"{about}: {what}".rstrip())
        self.about = about


class WrongStage(StrEnum):
    """What is wrong with what a stage is asked for."""

    SEVERAL_MACHINES = "sources on several machines"
    STORED_FROM_A_NODE = "bundles of directories of a node"
    GROWING_IN_A_BUNDLE = "growing files in a bundle"
    NO_NAME = "no name to arrive under"
    NAME_TEMPLATE = "a template of names that cannot be read"
    NAME_FIELDS = "a template of names that does not fit"
    ONE_NAME = "one name for several sources"
    SAME_NAME = "two sources of one name"
    NO_COMMANDS = "proof by a node that runs no commands"
    OTHER_DISK = "proof by commands that see another disk"
    NOTHING_THERE = "a source that is not there"
    NO_DIRECTORY = "a destination that is no directory"
    IN_ITSELF = "a destination inside its source"
    BUNDLE_NAME = "a bundle whose name something else has"
    GROWING_INTO_BUNDLE = "a growing file into a bundle that is there"
    LEFT_OUT_OF_BUNDLE = "a bundle made anew with less in it"
    UNREAD_IN_BUNDLE = "a bundle made anew without what cannot be read"


class BadStage(WrongRequest):
    """A stage is asked for that cannot be. `detail`, `other`: facts that belong to `why`.

    They are the form that was asked for; a count, what a reader of templates says, a name, or a kind of entry; and who
    has that already.
    """

    def __init__(self, why: WrongStage, about: str, detail: str = "", other: str = "") -> None:
        super().__init__(about, f"{why.value} {detail} {other}")
        self.why = why
        self.detail = detail
        self.other = other


class WrongVerify(StrEnum):
    """What is wrong with what a verify is asked for."""

    NO_LIST = "a tree without a checksum list"
    NOT_ON_LIST = "a file that the list does not name"
    NOTHING_CHOSEN = "patterns that choose nothing on the list"
    BARE_LIST = "sizes and times, which a bare list does not have"
    NOTHING_ON_RECORD = "a dataset of which nothing is on record"
    NOTHING_PUT = "a batch that has put nothing there yet"
    A_BAG = "a dataset that is stored as a bag"
    OTHER_ALGORITHM = "a list of another algorithm than was taken for it"


class BadVerify(WrongRequest):
    """A verify is asked for that cannot be. `of`: what was to be verified against what this is about.

    `right`, `taken`: the algorithm of a list, and the one that was taken for it.
    """

    def __init__(self, why: WrongVerify, about: str, of: str = "", *, right: str = "", taken: str = "") -> None:
        super().__init__(about, why.value)
        self.why = why
        self.of = of
        self.right = right
        self.taken = taken


class WrongRestore(StrEnum):
    """What is wrong with what a restore is asked for."""

    INTO_A_NODE = "a directory of a node"
    ON_A_NODE = "a place on a node"
    NOTHING_ON_RECORD = "something of which nothing is on record"
    NO_RECORD_OF_BATCH = "a batch of which no record says what it has carried"


class BadRestore(WrongRequest):
    """A restore is asked for that cannot be."""

    def __init__(self, why: WrongRestore, about: str) -> None:
        super().__init__(about, why.value)
        self.why = why


class AllGone(WrongRequest):
    """All that was on record of a tree was gone when it was last staged, on the day `when`.

    `batch`: the last that has carried some of it; "" where that is not known.
    """

    def __init__(self, about: str, when: str, batch: str) -> None:
        super().__init__(about, f"gone on {when}")
        self.when = when
        self.batch = batch


class NeverWrittenInto(WrongRequest):
    """Something would be written into a directory that is stored as a bundle."""

    def __init__(self, about: str) -> None:
        super().__init__(about, "stored as a bundle")


class WrongEntry(StrEnum):
    """Why something cannot be done with what a place names."""

    PATTERN = "a pattern that cannot be read"
    NO_MATCH = "a pattern that matches nothing"
    NOT_A_FILE = "a look into what is no file"
    END_OF_PACKED = "the end of a large packed file"
    NEW_NAME = "a new name that is a path"
    ROOT = "a root"
    PROTECTED = "what is, or holds, a directory that is needed"
    NEEDED = "an unfinished file that a batch will go on in"


class BadEntry(WrongRequest):
    """Something cannot be done with what a place names. `detail`: its kind, a batch, a pattern's mistake."""

    def __init__(self, why: WrongEntry, about: str, detail: str = "") -> None:
        super().__init__(about, f"{why.value} {detail}")
        self.why = why
        self.detail = detail


class WrongBag(StrEnum):
    """Why there can be no such bag."""

    OF_A_NODE = "a directory of a node"
    ON_A_NODE = "a bag on a node"
    IN_ITSELF = "a bag in the directory that goes into it"
    NO_DIRECTORY = "what is no directory"
    KINDS = "what is neither a file nor a directory"
    NAMES = "names that are not UTF-8"
    UNREAD = "what cannot be read"


class BadBag(WrongRequest):
    """A bag is to be made that there cannot be. `names`: some of what none can hold; `more`: how many besides."""

    def __init__(self, why: WrongBag, about: str, names: Sequence[bytes] = (), more: int = 0) -> None:
        super().__init__(about, why.value)
        self.why = why
        self.names = tuple(names)
        self.more = more


class WrongBundle(StrEnum):
    """What is wrong with what is asked of a bundle, or of another archive."""

    SEVERAL_MACHINES = "directories of several machines"
    MADE_ELSEWHERE = "a bundle elsewhere of what is on a node"
    SAME_NAME = "two directories of one name"
    NEEDS_NAME = "several directories in a bundle without a name"
    OTHER_ENDING = "a name that says it is another kind of archive"
    ENDING_AND_FORM = "a name and a form that differ"
    LEVEL = "a level that there is not"
    UNREAD = "a bundle without what cannot be read"
    EXISTS = "a bundle whose name something has"
    NO_DIRECTORY = "a bundle in a directory that is not there"
    NOT_AN_ARCHIVE = "something that is no file"
    NOT_A_DIRECTORY = "unpacking into what is no directory"
    INTO_ANOTHER_NODE = "unpacking on another machine"
    NO_DIGESTS = "digests of an archive without an index"


class BadBundle(WrongRequest):
    """Something is asked of a bundle that cannot be. `detail`: a fact that belongs to `why`; `more`: how many besides.

    It is a node, an ending, a form, its levels, a kind of entry, or a fault.
    """

    def __init__(self, why: WrongBundle, about: str, detail: str = "", more: int = 0) -> None:
        super().__init__(about, f"{why.value} {detail}")
        self.why = why
        self.detail = detail
        self.more = more


class WrongRoutine(StrEnum):
    """What is wrong with a routine that is to be added."""

    NAME = "a name that a routine cannot have"
    TAKEN = "a name that a routine has already"


class BadRoutine(WrongRequest):
    """A routine cannot be added."""

    def __init__(self, why: WrongRoutine, about: str) -> None:
        super().__init__(about, why.value)
        self.why = why
