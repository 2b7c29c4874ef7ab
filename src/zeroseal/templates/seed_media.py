"""Seed media: a small ISO 9660 image that tells a clone's first boot who it is (NoCloud)."""

from __future__ import annotations

import io
from pathlib import Path

import pycdlib

from zeroseal.errors import NotProvenError
from zeroseal.images.output import write_small_file
from zeroseal.machines.seed import VOLUME_ID, Seed, read_seed_medium


def write_seed_medium(target: Path, seed: Seed) -> None:
    """Writes a seed medium and reads it back.

    Raises:
        NotProvenError: it does not read back as it should.
    """
    medium = pycdlib.PyCdlib()
    medium.new(interchange_level=3, vol_ident=VOLUME_ID, joliet=3, rock_ridge="1.09")
    for number, (name, text) in enumerate(seed.texts().items()):
        content = text.encode()
        medium.add_fp(
            io.BytesIO(content),
            len(content),
            f"/SEED{number}.;1",
            rr_name=name,
            joliet_path=f"/{name}",
        )
    packed = io.BytesIO()
    medium.write_fp(packed)
    medium.close()
    write_small_file(target, packed.getvalue())
    if read_seed_medium(target).texts() != seed.texts():
        raise NotProvenError(f"{target} does not read back as it was written")
