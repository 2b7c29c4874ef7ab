"""The clone sheet: who each clone will be, in TOML or CSV; ``docs/clone-sheet.md`` describes it."""
