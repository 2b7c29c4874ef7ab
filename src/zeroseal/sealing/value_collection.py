"""The values that a seal has to make vanish, in every form they may lie on a disk.

They are held in memory only while a disk is searched, and never shown: a value is known by what it
is. Which ones a guest has, its system's judge knows (``linux/values.py``, ``windows/values.py``).
"""

from __future__ import annotations

from zeroseal.sealing.canaries import text_forms
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import CollectedValues, SearchedValue, ValueSet


def collect_values(inspection: Inspection, policy: Policy) -> ValueSet:
    """Reads the values of a disk that a seal with this policy removes."""
    found = inspection.judge.collect_values(inspection, policy)
    own = house_values(policy)
    found.values += own.values
    found.short_names |= dict(own.short_names)
    return _chosen(found, policy)


def house_values(policy: Policy) -> ValueSet:
    """The texts that house rules and the administrator want to be nowhere."""
    values = [
        SearchedValue(f"text {number} of the house rules", tuple(text_forms(text)))
        for number, text in enumerate(policy.texts, 1)
    ]
    values += [canary.value for canary in policy.canaries if not canary.is_short]
    short = {one.text.lower(): one.label for one in policy.canaries if one.is_short}
    return ValueSet(tuple(values), (), tuple(short.items()))


def _chosen(found: CollectedValues, policy: Policy) -> ValueSet:
    """The values that can be searched, but for those that house rules leave out."""
    labels = [*(value.label for value in found.values), *found.short_names.values()]
    left_out = [label for label in labels if label in policy.values_left_out]
    notes = [
        f"The {label} was not searched for: the house rules exclude it."
        for label in dict.fromkeys(left_out)
    ]
    kept = tuple(value for value in found.values if value.needles and value.label not in left_out)
    short = tuple(item for item in found.short_names.items() if item[1] not in left_out)
    return ValueSet(kept, (*found.not_searched, *notes), short)
