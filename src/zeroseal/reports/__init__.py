"""Results in forms for other programs: JSON for now; ``docs/json.md`` describes the schemas."""
