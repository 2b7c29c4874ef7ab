"""Contents as a bill of materials that other programs read: CycloneDX 1.6 and SPDX 2.3.

The same contents of the same disk give the same document: its number is made from the disk's
digest, and its time is that of the seal. Package URLs: the purl specification's types ``deb``,
``rpm``, ``apk``, ``alpm``, ``pypi`` and ``npm``; what has no type of its own gets no URL.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any
from uuid import NAMESPACE_URL, UUID, uuid5

from zeroseal import __version__
from zeroseal.extras import extra
from zeroseal.guests.components import SYSTEM_KINDS, Component, Contents, Kind

if TYPE_CHECKING:
    from cyclonedx.model.component import Component as ListedComponent
    from packageurl import PackageURL

_EXTRA = "bom"
_NEEDS = "a bill of materials"
_TYPES = {
    Kind.DEB: "deb",
    Kind.RPM: "rpm",
    Kind.APK: "apk",
    Kind.PACMAN: "alpm",
    Kind.PYTHON: "pypi",
    Kind.NPM: "npm",
}
_EPOCH = re.compile(r"(\d+):(.*)", re.DOTALL)


@dataclass(frozen=True)
class Described:
    """What a bill is about.

    Attributes:
        name: the image, or the template.
        digest: of its disk, as in the seal record; empty where there is none.
        moment: of the seal, or of the look at it; seconds since 1970.
    """

    name: str
    contents: Contents
    moment: int
    digest: str = ""

    @property
    def number(self) -> UUID:
        """The document's own, the same for the same disk and contents."""
        return uuid5(NAMESPACE_URL, f"zeroseal:{self.digest}:{self.contents.digest}")

    @property
    def time(self) -> datetime:
        """Its moment."""
        return datetime.fromtimestamp(self.moment, UTC)


def build_cyclonedx(described: Described) -> bytes:
    """A CycloneDX 1.6 document, JSON.

    Raises:
        MissingExtraError: its library is not installed.
    """
    with extra(_EXTRA, _NEEDS):
        from cyclonedx.model.bom import Bom
        from cyclonedx.model.component import Component as Listed
        from cyclonedx.model.component import ComponentType
        from cyclonedx.output.json import JsonV1Dot6
    bom = Bom(serial_number=described.number)
    contents = described.contents
    bom.metadata.timestamp = described.time
    bom.metadata.tools.components.add(
        Listed(name="zeroseal", version=__version__, type=ComponentType.APPLICATION)
    )
    image = Listed(
        name=described.name,
        type=ComponentType.PLATFORM,
        version=described.digest or None,
        bom_ref="image",
    )
    system = Listed(
        name=contents.os_id,
        version=contents.version or None,
        description=contents.system,
        type=ComponentType.OPERATING_SYSTEM,
        bom_ref="system",
    )
    bom.metadata.component = image
    listed = [_listed(component, contents) for component in contents.components]
    bom.components.update([system, *listed])
    bom.register_dependency(image, [system, *listed])
    text: str = JsonV1Dot6(bom).output_as_string(indent=1)
    return text.encode() + b"\n"


def build_spdx(described: Described) -> bytes:
    """An SPDX 2.3 document, JSON.

    Raises:
        MissingExtraError: its library is not installed.
    """
    with extra(_EXTRA, _NEEDS):
        from spdx_tools.spdx.jsonschema.document_converter import DocumentConverter
        from spdx_tools.spdx.model import (
            Actor,
            ActorType,
            CreationInfo,
            Document,
            Relationship,
            RelationshipType,
        )
    creation = CreationInfo(
        spdx_version="SPDX-2.3",
        spdx_id="SPDXRef-DOCUMENT",
        name=described.name,
        document_namespace=f"urn:uuid:{described.number}",
        creators=[Actor(ActorType.TOOL, f"zeroseal-{__version__}")],
        created=described.time.replace(tzinfo=None),
    )
    packages = list(_spdx_packages(described))
    image, *others = [package.spdx_id for package in packages]
    document = Document(
        creation,
        packages=packages,
        relationships=[
            Relationship(creation.spdx_id, RelationshipType.DESCRIBES, image),
            *(Relationship(image, RelationshipType.CONTAINS, other) for other in others),
        ],
    )
    converter: Any = DocumentConverter  # its constructor has no types
    value: dict[str, Any] = converter().convert(document)
    return json.dumps(value, indent=1, ensure_ascii=True).encode() + b"\n"


def package_url(component: Component, contents: Contents) -> PackageURL | None:
    """A component's package URL; None where its kind has no type."""
    from packageurl import PackageURL

    if component.kind not in _TYPES:
        return None
    name, namespace, version = component.name, "", component.version
    qualifiers: dict[str, str] = {}
    if component.kind in SYSTEM_KINDS:
        namespace = contents.os_id
        distribution = "-".join(part for part in (contents.os_id, contents.version) if part)
        qualifiers = {"arch": component.architecture, "distro": distribution}
        epoch = _EPOCH.fullmatch(version) if component.kind is Kind.RPM else None
        if epoch:
            qualifiers["epoch"], version = epoch[1], epoch[2]
    elif component.kind is Kind.NPM and name.startswith("@"):
        namespace, _slash, name = name.partition("/")
    filled = {key: value for key, value in qualifiers.items() if value}
    return PackageURL(_TYPES[component.kind], namespace or None, name, version or None, filled)


def _listed(component: Component, contents: Contents) -> ListedComponent:
    from cyclonedx.model import Property
    from cyclonedx.model.component import Component as Listed
    from cyclonedx.model.component import ComponentType

    types = {
        Kind.PYTHON: ComponentType.LIBRARY,
        Kind.NPM: ComponentType.LIBRARY,
        Kind.KERNEL: ComponentType.OPERATING_SYSTEM,
    }
    facts = {
        "kind": component.kind.value,
        "architecture": component.architecture,
        "source": component.source,
        "place": component.place,
    }
    return Listed(
        name=component.name,
        version=component.version or None,
        type=types.get(component.kind, ComponentType.APPLICATION),
        publisher=component.maker or None,
        purl=package_url(component, contents),
        bom_ref=_reference(component),
        properties=[
            Property(name=f"zeroseal:{key}", value=value) for key, value in facts.items() if value
        ],
    )


def _reference(component: Component) -> str:
    """What names a component in its document, the same at each time."""
    return str(uuid5(NAMESPACE_URL, json.dumps(list(vars(component).values()))))


def _spdx_packages(described: Described) -> Iterator[Any]:
    from spdx_tools.spdx.model import (
        Actor,
        ActorType,
        ExternalPackageRef,
        ExternalPackageRefCategory,
        Package,
        PackagePurpose,
        SpdxNoAssertion,
    )

    contents = described.contents
    nothing = SpdxNoAssertion()
    yield Package(
        "SPDXRef-image",
        described.name,
        nothing,
        version=described.digest or None,
        files_analyzed=False,
        primary_package_purpose=PackagePurpose.OPERATING_SYSTEM,
        description=contents.system,
    )
    for component in contents.components:
        url = package_url(component, contents)
        references = [
            ExternalPackageRef(ExternalPackageRefCategory.PACKAGE_MANAGER, "purl", url.to_string())
        ] if url else []  # fmt: skip
        yield Package(
            f"SPDXRef-{_reference(component)}",
            component.name,
            nothing,
            version=component.version or None,
            files_analyzed=False,
            supplier=Actor(ActorType.ORGANIZATION, component.maker) if component.maker else None,
            source_info=f"built from {component.source}" if component.source else None,
            comment=f"installed in {component.place}" if component.place else None,
            external_references=references,
        )
