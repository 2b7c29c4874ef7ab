"""Messages about the catalogue of traces."""

# traces/finders.py
FINDER_NOT_KNOWN = "the finder {name!r} is not known"

# traces/load.py
TRACE_NOT_KNOWN = "the trace {trace_id!r} is not known: {hint}"
INVALID_ID = "id must look like family.some-name"
FAMILY_NOT_KNOWN = "the family {family} is not known"
GUEST_NOT_KNOWN = "guest must be one of {guests}"
WINDOWS_LOCATORS_ONLY = 'keys, event logs and %FOLDERS% are for guest = "windows" only'
EDIT_NEEDS_REWRITE = (
    "an edit is required for paths with the treatment rewrite, and not allowed for others"
)
TREATMENT_DOES_NOT_FIT = "the treatment {treatment} does not fit this kind of place"
EDIT_FORMAT_MUST_BE_ONE = "edit.format must be one of {formats}"
EDIT_NEEDS_ONE_ACTION = "an edit drops keys or replaces their lines"
ONE_LOCATOR_REQUIRED = "give exactly one of {locators}"
HIVE_NAME_REQUIRED = "{pattern!r} does not start with the name of a hive"
VALUE_NEEDS_KEY_AND_NAME = "{text!r} must be KEY : NAME"
KEY_WRONG = "{file_name}: {key}: {reason}"
TRACE_OCCURS_TWICE = "{file_name}: the trace {id} occurs twice"
KEY_MISSING = "{key} is missing"
TREATMENT_MUST_BE_ONE = "treatment must be one of {names}"
INVALID_REGULAR_EXPRESSION = "contains is not a valid regular expression ({error})"
PATHS_MUST_BE_ABSOLUTE = "paths must be absolute"
HOME_PATHS_RELATIVE_TO_HOME_FOLDER = "home_paths are relative to a home folder"
