"""Speed, memory and truth, each in one run beside a yardstick: a general-purpose library or a physical limit."""
