"""Audits of a survey: what a relaunch breaks. `audit` runs them all; `site` holds what they look at."""
