"""Looking before sending: what will go wrong with a message, told before its readers tell."""

from pribble.review.check import Check, Weight, check, check_message
from pribble.review.coverage import Coverage, Way

__all__ = ["Check", "Coverage", "Way", "Weight", "check", "check_message"]
