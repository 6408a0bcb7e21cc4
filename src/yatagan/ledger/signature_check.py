"""Checking the signatures of records by the keys that a group trusts."""

from __future__ import annotations

import base64
import binascii
from datetime import UTC, datetime

from yatagan.ledger.records import Record, canonical
from yatagan.ledger.signatures import BadSignature, Keys, SignatureFault, decode, fingerprint
from yatagan.ledger.signers import Signers


class SignatureCheck:
    """Checks signatures. Where no key is trusted, they are only compared with the keys that they name."""

    def __init__(self, signers: Signers) -> None:
        self._signers = signers
        self._keys = Keys()
        #: Lines of the two files that are not understood, as (file, line).
        self.odd_lines = self._signers.odd

    def signer(self, record: Record) -> tuple[str, str]:
        """The trusted name whose key has signed a record, and the key's fingerprint. Raises BadSignature.

        The name is "" where no key is trusted.
        """
        try:
            signature = decode(base64.b64decode(record.fields["signature"], validate=True))
            when = datetime.strptime(record.recorded_at[:19], "%Y-%m-%dT%H:%M:%S").replace(tzinfo=UTC)
        except (binascii.Error, TypeError, ValueError):
            raise BadSignature(SignatureFault.NOT_UNDERSTOOD) from None
        self._keys.check(signature, canonical({key: record.fields[key] for key in record.fields if key != "signature"}))
        return self._signers.name(signature, when), fingerprint(signature.key)
