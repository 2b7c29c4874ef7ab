"""Waiting until a guest that nobody can ask has done what a first start does."""

from __future__ import annotations

import time
from collections.abc import Callable

from zeroseal.errors import GuestError, UnfinishedError
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step

_SETTLED_SECONDS = 40
_LOOK_SECONDS = 2.0


def wait_until_quiet(
    name: str,
    within_seconds: int,
    count_writes: Callable[[], int],
    last_line: Callable[[], str],
    progress: Progress,
) -> None:
    """Waits until the guest has written to its disk and then wrote nothing for a while.

    A login prompt says nothing: keys are often made after it.

    Raises:
        GuestError: it is still busy after that time, or ended by itself.
    """
    began = changed = time.monotonic()
    seen = 0
    while (now := time.monotonic()) - began < within_seconds:
        stage = f"waiting for the first boot of {name}"
        progress(Step(stage, int(now - began), 0, "s", last_line()))
        try:
            written = count_writes()
        except UnfinishedError as error:
            raise GuestError(
                messages.ENDED_BY_ITSELF.format(name=name, message=error.message)
            ) from error
        if written != seen:
            seen, changed = written, now
        elif seen and now - changed > _SETTLED_SECONDS:
            return
        time.sleep(_LOOK_SECONDS)
    raise GuestError(
        messages.GUEST_NOT_STABLE_IN_TIME.format(
            name=name, within_seconds=within_seconds, last_line=last_line() or "nothing"
        )
    )
