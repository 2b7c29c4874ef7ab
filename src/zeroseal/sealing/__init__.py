"""The job itself: survey, plan, apply to a staged layer, verify, write out, record, check."""
