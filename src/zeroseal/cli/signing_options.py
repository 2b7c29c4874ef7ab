"""``--sign`` and its passphrase: who signs the seal records that a command writes."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.parser import PROOF, Parser
from zeroseal.errors import MissingError, UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


def add_signing(parser: Parser) -> None:
    """Who signs the seal record."""
    parser.group(PROOF).add_argument(
        "--sign",
        type=Path,
        metavar="KEY",
        help="sign the seal record with this Ed25519 key (OpenSSH or PEM)",
    )
    parser.group(PROOF).add_argument(
        "--passphrase-from",
        type=Path,
        metavar="FILE",
        help="with --sign: the file whose first line is the passphrase of the key (default: ask)",
    )


def signer_from(args: argparse.Namespace) -> RecordSigner | None:
    """Who signs; None for nobody.

    Raises:
        MissingError, UsageError: the key cannot be read or opened.
    """
    if args.sign is None:
        if args.passphrase_from:
            raise UsageError(messages.PASSPHRASE_FROM_NEEDS_SIGN)
        return None
    from zeroseal.sealing.signing import read_signer

    return read_signer(args.sign, lambda: _passphrase(args))


def _passphrase(args: argparse.Namespace) -> bytes:
    if args.passphrase_from:
        try:
            first: bytes = args.passphrase_from.read_bytes().split(b"\n")[0]
        except OSError as error:
            raise MissingError(
                messages.CANNOT_BE_READ.format(passphrase_from=args.passphrase_from, error=error)
            ) from error
        return first
    if not sys.stdin.isatty():
        raise UsageError(messages.KEY_NEEDS_PASSPHRASE.format(sign=args.sign))
    return getpass.getpass(f"Passphrase of {args.sign}: ").encode()
