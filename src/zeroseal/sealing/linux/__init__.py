"""What a seal weighs where the guest is a Linux: readiness, lock-outs, values, planting."""
