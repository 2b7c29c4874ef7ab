"""What an identity value is, and how bad it is that two machines share one."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum


class Severity(IntEnum):
    """What it means that two machines share a value; the larger the worse."""

    BY_DESIGN = 0
    NOTICED = 1
    CONFUSED = 2
    EXPOSED = 3

    @property
    def title(self) -> str:
        """A word for it."""
        return self.name.lower().replace("_", " ")

    @property
    def meaning(self) -> str:
        """What it comes to."""
        return _MEANINGS[self]


_MEANINGS = {
    Severity.EXPOSED: "Exposed: one machine can impersonate the other",
    Severity.CONFUSED: "Confused: other systems take two machines for one",
    Severity.NOTICED: "Noticed: people may mix the machines up",
    Severity.BY_DESIGN: "By design, as clones of one template or guests of such a network",
}
SEVERITIES = {
    "SSH host key": Severity.EXPOSED,
    "random seed": Severity.EXPOSED,
    "Kerberos keytab": Severity.EXPOSED,
    "Samba secrets": Severity.EXPOSED,
    "management agent": Severity.EXPOSED,
    "TPM state": Severity.EXPOSED,
    "machine ID": Severity.CONFUSED,
    "SMBIOS UUID": Severity.CONFUSED,
    "SMBIOS serial number": Severity.CONFUSED,
    "generation ID": Severity.CONFUSED,
    "seed medium": Severity.CONFUSED,
    "security identifier": Severity.CONFUSED,
    "machine GUID": Severity.CONFUSED,
    "update client ID": Severity.CONFUSED,
    "telemetry ID": Severity.CONFUSED,
    "server GUID": Severity.CONFUSED,
    "iSCSI initiator": Severity.CONFUSED,
    "NVMe host name": Severity.CONFUSED,
    "container engine": Severity.CONFUSED,
    "subscription": Severity.CONFUSED,
    "DHCP client ID": Severity.CONFUSED,
    "static address": Severity.CONFUSED,
    "host name": Severity.NOTICED,
    "MAC": Severity.NOTICED,
    "MAC in firmware variables": Severity.NOTICED,
    "leased address": Severity.NOTICED,
    "address of a user network": Severity.BY_DESIGN,
    "disk GUID": Severity.BY_DESIGN,
    "partition GUID": Severity.BY_DESIGN,
    "volume UUID": Severity.BY_DESIGN,
    "LVM identifier": Severity.BY_DESIGN,
}
"""How bad it is that machines share a value of a kind: keys let one pose as another, IDs make two
look like one, names confuse people, volume ids are the same on all clones of a template, and QEMU's
user network gives every guest the same address."""


@dataclass(frozen=True)
class IdentityValue:
    """One value of one machine.

    Attributes:
        kind: what it is, one of ``SEVERITIES``.
        shown: a fingerprint, a short hash, or the value where it is no secret.
    """

    kind: str
    shown: str

    @property
    def severity(self) -> Severity:
        """How bad it is to share it."""
        return SEVERITIES.get(self.kind, Severity.NOTICED)

    @property
    def by_design(self) -> bool:
        """Whether clones of one template share it unless told otherwise."""
        return self.severity is Severity.BY_DESIGN
