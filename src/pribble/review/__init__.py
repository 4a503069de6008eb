"""Looking before sending: what will go wrong with a message, told before its readers tell."""

from pribble.review.adopting import Adopted, AdoptedField, adopt
from pribble.review.check import Check, Strained, Weight, check, check_message
from pribble.review.coverage import Coverage, Way
from pribble.review.differences import Difference, differences
from pribble.review.preview import Preview, preview
from pribble.review.simulating import View, simulate
from pribble.review.strain import Strain
from pribble.review.viewers import Viewer, known_viewers

__all__ = [
    "Adopted",
    "AdoptedField",
    "Check",
    "Coverage",
    "Difference",
    "Preview",
    "Strain",
    "Strained",
    "View",
    "Viewer",
    "Way",
    "Weight",
    "adopt",
    "check",
    "check_message",
    "differences",
    "known_viewers",
    "preview",
    "simulate",
]
