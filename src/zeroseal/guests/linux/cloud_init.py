"""What cloud-init would do on a clone, from its configuration in the guest.

Source: cloud-init's documentation: base configuration, datasource order, ``ds-identify`` policy,
disabling cloud-init, and the module reference.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import yaml

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.services import Services

UNITS = ("cloud-init.service", "cloud-init-main.service", "cloud-init-network.service")
_OPENRC_SCRIPTS = ("cloud-init", "cloud-init-hotplugd")
_DISABLED = "/etc/cloud/cloud-init.disabled"
_BASE, _PARTS = "/etc/cloud/cloud.cfg", "/etc/cloud/cloud.cfg.d/*.cfg"
_POLICY = "/etc/cloud/ds-identify.cfg"


@dataclass(frozen=True)
class CloudInit:
    """Cloud-init in a guest.

    Attributes:
        is_installed: whether it is there at all.
        off_by: what switches it off, a path or a sentence; empty where it runs.
        sources: the datasources that it tries; empty where it tries all.
        sources_from: the file that limits them.
        modules: the modules of its first stages; empty where the configuration does not say.
        leaves_network_by: the file that keeps it from configuring the network.
    """

    is_installed: bool
    off_by: str = ""
    sources: tuple[str, ...] = ()
    sources_from: str = ""
    modules: tuple[str, ...] = ()
    leaves_network_by: str = ""

    @property
    def takes_seeds(self) -> bool:
        """Whether a clone's first boot takes a seed from somewhere."""
        return self.is_installed and not self.off_by and set(self.sources) != {"None"}

    @property
    def takes_seed_media(self) -> bool:
        """Whether a medium with a seed (NoCloud) is among what it takes."""
        return self.takes_seeds and (not self.sources or "NoCloud" in self.sources)

    def runs_module(self, name: str) -> bool:
        """Whether a module is among those that run; one may be given with ``cc_`` or dashes."""
        known = {item.replace("-", "_").removeprefix("cc_") for item in self.modules}
        return not known or name.replace("-", "_") in known


def read_cloud_init(guest: Guest, services: Services, gone: Collection[str] = ()) -> CloudInit:
    """Reads what cloud-init would do.

    Args:
        guest: the guest.
        services: which of its services start.
        gone: paths that will not be there.
    """
    unit = services.first_enabled((*UNITS, *_OPENRC_SCRIPTS), gone)
    installed = unit or any(
        guest.exists(path) for path in ("/usr/bin/cloud-init", _BASE, "/usr/sbin/cloud-init")
    )
    if not installed:
        return CloudInit(is_installed=False)
    off_by = "" if unit else "none of its services is enabled"
    if guest.exists(_DISABLED) and _DISABLED not in gone:
        off_by = _DISABLED
    if "policy: disabled" in guest.read_text(_POLICY) and _POLICY not in gone:
        off_by = _POLICY
    off_by = off_by or _kernel_says_off(guest)
    sources: tuple[str, ...] = ()
    sources_from = network_by = ""
    modules: tuple[str, ...] = ()
    for path in [path for path in (_BASE, *guest.glob(_PARTS)) if path not in gone]:
        config = _read_config(guest, path)
        if isinstance(config.get("datasource_list"), list):
            sources = tuple(str(item) for item in config["datasource_list"])
            sources_from = path
        if isinstance(config.get("cloud_init_modules"), list):
            modules = tuple(_module_name(item) for item in config["cloud_init_modules"])
        network = config.get("network")
        if isinstance(network, dict) and network.get("config") == "disabled":
            network_by = path
    return CloudInit(
        is_installed=True,
        off_by=off_by,
        sources=sources,
        sources_from=sources_from,
        modules=modules,
        leaves_network_by=network_by,
    )


def _kernel_says_off(guest: Guest) -> str:
    for path in ("/etc/default/grub", "/etc/kernel/cmdline"):
        if "cloud-init=disabled" in guest.read_text(path):
            return path
    return ""


def _module_name(item: Any) -> str:
    """A module may be given with its frequency: ``[growpart, always]``."""
    return str(item[0]) if isinstance(item, list) and item else str(item)


def _read_config(guest: Guest, path: str) -> dict[str, Any]:
    try:
        config = yaml.safe_load(guest.read_text(path))
    except (yaml.YAMLError, RecursionError):
        return {}
    return config if isinstance(config, dict) else {}
