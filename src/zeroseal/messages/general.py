"""Messages about documents, sizes and failed calls to the operating system."""

# blocks/records.py
RECORD_TOO_SHORT = "{record} needs {size} bytes, got {raw}"

# blocks/sizes.py
NOT_VALID_SIZE = "{text!r} is not a valid size: write it like 40G or 512M"

# blocks/store.py
WOULD_BE_WRONG_AT_OR_AFTER = (
    "{what} would be wrong at or after byte {offset} of the disk: nothing was written; please "
    "report this together with the output of --debug"
)
BYTES_MISSING = (
    "bytes {offset_bytes} to {end_bytes} are needed, but only {size_bytes} bytes are present"
)

# documents.py
VALUE_MUST_BE = "it must be {kinds}"
VALUE_MUST_HAVE = "it must have {limit} {bound} {what}"
UNKNOWN_KEY_NEAR = "unknown key; did you mean {near}?"
UNKNOWN_KEY = "unknown key; known keys are {keys}"
VALUE_MUST_BE_ONE_OF = "it must be one of {words}"
DOCUMENT_TOO_LARGE = "{what} {path} is too large: at most {most_bytes} MiB are allowed"
VALUE_MISSING = "it is missing"
WRONG_FORM = "it does not have the required form"
VALUE_MUST_BE_WITHIN = "it must be {limit} {bound}"
NOT_VALID_TOML = "{name} is not valid TOML: {error}"
CANNOT_READ = "cannot read {what} {path}: {reason}"
NOT_UTF_8_TEXT = "{what} {path} is not UTF-8 text"

# extras.py
EXTRA_MISSING = (
    "{what} needs the package {package}, which is not installed: "
    "run pip install 'zeroseal[{extra}]'"
)

# errors.py
OPERATION_FAILED = "{doing} {path} failed: {reason}"
NO_SPACE_LEFT = "no space left while {doing} {path}: free some space, or choose another folder"
