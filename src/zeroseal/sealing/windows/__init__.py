"""What a seal weighs differently where the guest is a Windows: readiness, guard, values."""
