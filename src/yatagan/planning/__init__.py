"""Two places in, a plan out: what to carry, what to bundle, what may be reused. Nothing is changed anywhere."""
