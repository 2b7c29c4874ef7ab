"""Opening an image for changes, whatever its format."""

from __future__ import annotations

from zeroseal.errors import UnsupportedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import Image, WritableImage
from zeroseal.images.qcow2.read import Qcow2Image
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.images.raw import RawImage
from zeroseal.images.vdi.write import WritableVdi
from zeroseal.images.vhd.read import FixedVhd
from zeroseal.images.vhd.write import WritableFixedVhd, WritableVhd
from zeroseal.images.vhdx.read import VhdxImage
from zeroseal.images.vhdx.write import WritableVhdx
from zeroseal.images.vmdk.write import WritableVmdk
from zeroseal.messages import images as messages


def open_writable(file: ContainerFile, reading: Image) -> WritableImage:
    """Opens for changes, over ``file``, what ``reading`` is.

    Raises:
        RefusedError: a change would leave something in it wrong.
        UnsupportedError: this kind of container is not changed in place.
    """
    if isinstance(reading, Qcow2Image):
        return WritableQcow2(file, reading.backing)
    if isinstance(reading, VhdxImage):
        return WritableVhdx(file)
    if isinstance(reading, FixedVhd):
        return WritableFixedVhd(file)
    match reading.format_name:
        case "vhd":
            return WritableVhd(file)
        case "vdi":
            return WritableVdi(file)
        case "vmdk" if len(reading.files) == 1:
            return WritableVmdk(file)
        case "raw":
            return RawImage(file)
    raise UnsupportedError(
        messages.NOT_CHANGED_IN_PLACE.format(
            path=reading.path, format_name=reading.format_name, variant=reading.variant
        ),
        format=reading.format_name,
    )
