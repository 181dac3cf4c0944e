"""The words the sample site is made of. All names are made up."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator

VERBS = (
    "Restoring",
    "Finding",
    "Moving",
    "Opening",
    "Dating",
    "Cleaning",
    "Winding",
    "Hearing",
    "Drawing",
    "Rebuilding",
    "Photographing",
    "Lending",
)
ADJECTIVES = (
    "harbour",
    "tower",
    "longcase",
    "carriage",
    "marine",
    "lantern",
    "skeleton",
    "turret",
    "regulator",
    "bracket",
    "cuckoo",
    "station",
    "pocket",
    "table",
    "musical",
    "water",
    "astronomical",
    "night",
)
NOUNS = (
    "clock",
    "dial",
    "movement",
    "escapement",
    "pendulum",
    "chime",
    "bell",
    "case",
    "winding key",
    "fusee",
    "balance wheel",
    "hour hand",
    "striking train",
    "face",
    "mainspring",
)
PLACES = (
    "Millbrook",
    "Saltmere",
    "Ashcombe",
    "Tarn Hollow",
    "Eastwick Quay",
    "Brindle",
    "Wexcombe",
    "Lower Marle",
    "Oldbridge",
    "Fenwater",
    "Crowhurst Ferry",
    "Pellam",
    "Rookmoor",
    "Sandholt",
    "Thornby",
    "Little Averley",
)
FIRST_NAMES = (
    "Amory",
    "Beatrix",
    "Caspar",
    "Delia",
    "Edmund",
    "Flora",
    "Gideon",
    "Hester",
    "Ivo",
    "Jemima",
    "Lucan",
    "Maud",
    "Nathan",
    "Orla",
    "Piers",
)
LAST_NAMES = (
    "Vell",
    "Harrow",
    "Quince",
    "Tolliver",
    "Marsh",
    "Dunmore",
    "Ferris",
    "Loxley",
    "Penrose",
    "Sallow",
    "Whitlock",
    "Yarrow",
    "Brack",
    "Callan",
)
MATERIALS = (
    "Brass",
    "Walnut",
    "Ebony",
    "Silver",
    "Oak",
    "Mahogany",
    "Gilt",
    "Slate",
    "Marble",
    "Rosewood",
    "Tortoiseshell",
    "Enamel",
)
OBJECTS = (
    "carriage clock",
    "longcase clock",
    "mantel clock",
    "pocket watch",
    "marine chronometer",
    "lantern clock",
    "table clock",
    "bracket clock",
    "skeleton clock",
    "wall regulator",
    "sundial",
    "hourglass",
    "watch stand",
    "clock key",
)
SUBJECTS = (
    "Harbour at night",
    "The tower in snow",
    "Pendulum study",
    "Twelve dials",
    "The winding room",
    "Bells over Pellam",
    "Escapement in blue",
    "Night watch",
)
WORKSHOPS = (
    "Dial painting",
    "Clock repair for beginners",
    "Engraving a watch case",
    "Building a sundial",
    "Paper clocks for children",
    "Casting bells",
    "Reading old movements",
    "Gilding",
    "Drawing the tower",
    "The physics of the pendulum",
    "Wood turning",
    "Photographing metal",
)


def slug(text: str) -> str:
    """A title as the last part of an address."""
    return re.sub(
        r"[^a-z0-9]+",
        "-",
        text.lower().replace("ö", "oe").replace("ü", "ue").replace("ä", "ae").replace("ß", "ss"),
    ).strip("-")


def story_titles(words: random.Random) -> Iterator[str]:
    """Endless different titles of journal pages."""
    seen: set[str] = set()
    while True:
        shape = words.randrange(4)
        adjective, noun, place = words.choice(ADJECTIVES), words.choice(NOUNS), words.choice(PLACES)
        who = f"{words.choice(FIRST_NAMES)} {words.choice(LAST_NAMES)}"
        title = (
            f"{words.choice(VERBS)} the {adjective} {noun} of {place}",
            f"{who} and the {adjective} {noun}",
            f"A {adjective} {noun} from {place}, {words.randrange(1680, 1935)}",
            f"{words.choice(VERBS)} {who}'s {adjective} {noun}",
        )[shape]
        if slug(title) not in seen:
            seen.add(slug(title))
            yield title


def object_titles(words: random.Random) -> Iterator[str]:
    """Endless titles of catalogue items; they repeat now and then, as things in a museum do."""
    while True:
        maker = f"{words.choice(FIRST_NAMES)} {words.choice(LAST_NAMES)}"
        yield (
            f"{words.choice(MATERIALS)} {words.choice(OBJECTS)} by {maker}, "
            f"{words.randrange(1650, 1940)}"
        )
