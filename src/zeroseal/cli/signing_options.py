"""``--sign`` and its passphrase: who signs the seal records that a command writes."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.errors import MissingError, UsageError

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


def add_signing(parser: argparse.ArgumentParser) -> None:
    """Who signs the seal record."""
    parser.add_argument(
        "--sign",
        type=Path,
        metavar="KEY",
        help="sign the seal record with this Ed25519 key (OpenSSH or PEM)",
    )
    parser.add_argument(
        "--passphrase-from",
        type=Path,
        metavar="FILE",
        help="with --sign: the file whose first line opens the key (default: ask)",
    )


def signer_from(args: argparse.Namespace) -> RecordSigner | None:
    """Who signs; None for nobody.

    Raises:
        MissingError, UsageError: the key cannot be read or opened.
    """
    if args.sign is None:
        if args.passphrase_from:
            raise UsageError("--passphrase-from goes with --sign")
        return None
    from zeroseal.sealing.signing import read_signer

    return read_signer(args.sign, lambda: _passphrase(args))


def _passphrase(args: argparse.Namespace) -> bytes:
    if args.passphrase_from:
        try:
            first: bytes = args.passphrase_from.read_bytes().split(b"\n")[0]
        except OSError as error:
            raise MissingError(f"{args.passphrase_from} cannot be read ({error})") from error
        return first
    if not sys.stdin.isatty():
        raise UsageError(
            f"the key {args.sign} has a passphrase: give it with --passphrase-from FILE"
        )
    return getpass.getpass(f"Passphrase of {args.sign}: ").encode()
