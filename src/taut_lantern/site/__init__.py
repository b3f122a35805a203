"""What all steps share: parts, datum, frames, targets, the solution, what is visible. Steps import it, never each other."""
