"""What of a Windows its maker and installers brought: the same on every machine.

Folders in which the system keeps a state of its own are left out.
"""

from __future__ import annotations

import re

_SHIPPED = re.compile(
    r"^/(windows/(winsxs|servicing|assembly|microsoft\.net|fonts|help|systemapps|syswow64|boot|ime"
    r"|system32(?!/(config|tasks|logfiles|winevt|sru|spp|wbem/repository|drivers/etc|grouppolicy"
    r"|spool|microsoft/protect|catroot2)(/|$)))(/|$)"
    r"|program files( \(x86\))?/)",
    re.IGNORECASE,
)


def is_shipped(path: str, is_names: bool = False) -> bool:
    """Whether a file, or the names in a folder, are what was brought."""
    return bool(_SHIPPED.match(f"{path}/" if is_names else path))
