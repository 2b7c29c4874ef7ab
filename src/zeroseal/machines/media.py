"""Media for a drive: small ISO 9660 images with Joliet and Rock Ridge names, made and read back.

Source: ECMA-119; Joliet (16 bits a character), IEEE P1282 (Rock Ridge), by pycdlib.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from pathlib import Path

import pycdlib
from pycdlib.pycdlibexception import PyCdlibException

from zeroseal.errors import DamagedError, NotProvenError
from zeroseal.images.output import write_small_file
from zeroseal.machines.seed import FILE_NAMES, NETWORK_NAME, VOLUME_ID, Seed, parse_seed
from zeroseal.messages import machines as messages


def write_medium(target: Path, label: str, files: Mapping[str, bytes], mode: int = 0o666) -> None:
    """Writes a medium with these files in its root, and reads it back.

    Args:
        target: the new file.
        label: of the medium.
        files: their contents by name.
        mode: of the new file, cut by the user's mask.

    Raises:
        UnfinishedError: it cannot be written.
        NotProvenError: it does not read back as it should.
    """
    medium = pycdlib.PyCdlib()
    medium.new(interchange_level=3, vol_ident=label, joliet=3, rock_ridge="1.09")
    for number, (name, content) in enumerate(files.items()):
        iso_name = f"/FILE{number}.;1"
        medium.add_fp(
            io.BytesIO(content), len(content), iso_name, rr_name=name, joliet_path=f"/{name}"
        )
    packed = io.BytesIO()
    medium.write_fp(packed)
    medium.close()
    write_small_file(target, packed.getvalue(), mode)
    if read_medium(target) != dict(files):
        raise NotProvenError(messages.MEDIUM_DOES_NOT_READ_BACK.format(target=target))


def read_medium(path: Path) -> dict[str, bytes]:
    """The files in the root of a medium, by their Joliet names.

    Raises:
        DamagedError: it is no such medium.
    """
    medium = pycdlib.PyCdlib()
    try:
        medium.open(str(path))
    except (PyCdlibException, OSError) as error:
        raise DamagedError(messages.NOT_READABLE_MEDIUM.format(path=path, error=error)) from error
    try:
        names = [
            child.file_identifier().decode("utf-16-be")
            for child in medium.list_children(joliet_path="/")
            if not child.is_dot() and not child.is_dotdot() and child.is_file()
        ]
        return {name: _read_file(medium, name) for name in names}
    except (PyCdlibException, UnicodeDecodeError) as error:
        raise DamagedError(messages.NOT_READABLE_MEDIUM.format(path=path, error=error)) from error
    finally:
        medium.close()


def write_seed_medium(target: Path, seed: Seed) -> None:
    """Writes a seed medium and reads it back; only its owner may read it.

    Raises:
        UnfinishedError: it cannot be written, or does not read back.
    """
    files = {name: text.encode() for name, text in seed.texts().items()}
    write_medium(target, VOLUME_ID, files, 0o600)  # it may hold a password's hash


def read_seed_medium(path: Path) -> Seed:
    """Reads a seed from a medium.

    Raises:
        DamagedError: it is no seed medium.
    """
    files = read_medium(path)
    try:
        texts = {name: files[name].decode() for name in FILE_NAMES}
        if NETWORK_NAME in files:
            texts[NETWORK_NAME] = files[NETWORK_NAME].decode()
        return parse_seed(texts)
    except (KeyError, UnicodeDecodeError) as error:
        raise DamagedError(messages.NOT_SEED_MEDIUM.format(path=path, error=error)) from error


def _read_file(medium: pycdlib.PyCdlib, name: str) -> bytes:
    content = io.BytesIO()
    medium.get_file_from_iso_fp(content, joliet_path=f"/{name}")
    return content.getvalue()
