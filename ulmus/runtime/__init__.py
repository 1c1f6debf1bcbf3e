"""Makes the core's decisions happen: engine, outbox, polling, approvals, proofs."""
