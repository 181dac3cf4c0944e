"""Made-up site moves with their truth, each damaged in its own way, to measure matching on.

They share nothing with the sample site: words are drawn from syllables, and how sections are built,
renamed and damaged is drawn anew for each seed.
"""

from __future__ import annotations

import random
from dataclasses import replace

from moves.damage import Damage
from moves.site_move import SiteMove
from moves.words import CODAS, FILLERS, ONSETS, VOWELS, fill, misspelt, page, slug


def make_move(seed: int, size: int = 2000) -> SiteMove:
    """A move of about `size` old pages."""
    return Maker(random.Random(f"move {seed}"), size).make()


class Maker:
    def __init__(self, chance: random.Random, size: int) -> None:
        self.r = chance
        self.size = size
        count = int(size**0.5 * chance.uniform(15, 60))
        self.words = list(dict.fromkeys(self._word() for _ in range(count)))
        self.old_titles = chance.choice([0.0, 0.0, 0.6, 1.0])
        self.new_titles = chance.choice([0.0, 0.9, 1.0, 1.0])
        self.gone = chance.uniform(0.05, 0.3)
        self.extra = chance.uniform(0.0, 0.5)
        self.again = chance.choice(
            [0.0, 0.03, 0.1, 0.3]
        )  # pages that other addresses lead to as well
        self.before = slug([self._word(), self._word()])
        self.brand = (f" | {self._word().title()}", f" - {self._word().title()}")
        self.move = SiteMove()
        self._taken: set[str] = set()

    def _word(self) -> str:
        r = self.r
        return "".join(
            r.choice(ONSETS) + r.choice(VOWELS) + r.choice(CODAS)
            for _ in range(r.choice([1, 2, 2, 3]))
        )

    def some_word(self) -> str:
        """A word, common ones more often, as in a language."""
        return self.words[min(int(len(self.words) * self.r.random() ** 2.5), len(self.words) - 1)]

    def make(self) -> SiteMove:
        r = self.r
        kinds = [
            self.articles,
            self.products,
            self.people,
            self.documents,
            self.events,
            self.static,
            self.numbered,
            self.reference,
            self.guides,
            self.shop,
        ]
        chosen = [self.articles, self.static, *r.sample(kinds, r.randint(2, 5))]
        shares = [r.uniform(0.3, 1.0) for _ in chosen]
        for kind, share in zip(chosen, shares, strict=True):
            kind(
                max(4, int(self.size * share / sum(shares) * (0.03 if kind == self.static else 1)))
            )
        r.shuffle(self.move.new)
        r.shuffle(self.move.old)
        return self.move

    # What sections are made of.

    def headline(self, least: int = 2, most: int = 6) -> list[str]:
        return [self.some_word() for _ in range(self.r.randint(least, most))]

    def section(self) -> tuple[str, str]:
        """The name of a section before and after: kept, renamed, or moved under another."""
        old = self.r.choice([self.some_word(), f"{self.some_word()}/{self.some_word()}"])
        new = self.r.choice(
            [
                old,
                self.some_word(),
                f"{self.some_word()}/{self.some_word()}",
                old.rpartition("/")[2],
            ]
        )
        return slug([old]).replace("-", "/"), slug([new]).replace("-", "/")

    def articles(self, count: int) -> None:
        r = self.r
        old, new = self.section()
        forms = [
            "/{old}/{y}/{m:02}/{slug}.html", "/{old}/{slug}.html", "/{old}/{slug}/",
            "/{y}/{m:02}/{d:02}/{slug}/", "/{old}/{n}-{slug}",
            "/{old}/{slug}_{n}.htm", "/{old}.php?title={slug}", "/{old}/{y}-{m:02}-{d:02}-{slug}",
            "/{slug}.html", "/{old}/{camel}.aspx",
        ]  # fmt: skip
        goals = [
            "/{new}/{slug}/",
            "/{new}/{slug}",
            "/{slug}/",
            "/{new}/{y}/{slug}/",
            "/{new}/{y}/{m:02}/{slug}",
            "/{new}/{slug}-{n}",
        ]
        damage = Damage(r, self.some_word)
        form, goal = r.choice(forms), r.choice(goals)
        for n in range(count):
            words = self.headline(2, 7)
            facts = {
                "old": old,
                "new": new,
                "y": r.randint(2003, 2024),
                "m": r.randint(1, 12),
                "d": r.randint(1, 28),
                "n": 1000 + 7 * n,
            }
            self.pair(form, goal, words, damage, facts)

    def products(self, count: int) -> None:
        r = self.r
        old, new = self.section()
        forms = [
            "/{old}.php?item={n}",
            "/{old}/{slug}-{n}.html",
            "/{old}/{n}/{slug}",
            "/{old}/{slug}.html",
            "/{old}/product_info.php?products_id={n}",
        ]
        goals = ["/{new}/{slug}-{n}/", "/{new}/{slug}/", "/{new}/{n}/{slug}", "/p/{slug}"]
        form, goal = r.choice(forms), r.choice(goals)
        damage = Damage(r, self.some_word, titled=form.endswith("{n}"))
        makes = [self.some_word() for _ in range(8)]
        variants = [[self.some_word() for _ in range(r.randint(1, 4))] for _ in range(3)]
        while count > 0:
            model = [r.choice(makes), *self.headline(1, 3)]
            for kind in r.choice(variants):
                self.pair(
                    form,
                    goal,
                    [*model, kind],
                    damage,
                    {"old": old, "new": new, "n": 10_000 + 13 * count},
                )
                count -= 1

    def people(self, count: int) -> None:
        old, new = self.section()
        names = list(dict.fromkeys(self._word() for _ in range(240)))
        first, last = names[:40], names[40:]
        damage = Damage(self.r, self.some_word, mild=True)
        reverse = self.r.random() < 0.5
        for _ in range(min(count, 300)):
            name = [self.r.choice(first), self.r.choice(last)]
            self.pair(
                "/{old}/{rev}.html" if reverse else "/{old}/{under}.html",
                "/{new}/{slug}/",
                name,
                damage,
                {"old": old, "new": new},
            )

    def documents(self, count: int) -> None:
        old, new = self.section()
        damage = Damage(self.r, self.some_word, mild=True)
        while count > 0:
            series = self.headline(1, 3)
            for year in range(2024 - self.r.randint(0, 18), 2025):
                self.pair(
                    "/{old}/{slug}-{y}.pdf",
                    "/{new}/{slug}-{y}.pdf",
                    series,
                    damage,
                    {"old": old, "new": new, "y": year},
                )
                count -= 1

    def events(self, count: int) -> None:
        """Dates of one event, all of which lead to its one new page."""
        old, new = self.section()
        while count > 0:
            words = self.headline(2, 4)
            goal = f"/{new}/{slug(words)}/"
            gone = self.r.random() < self.gone
            names = set() if gone else {self.add_new(goal, words)}
            for _ in range(self.r.randint(2, 9)):
                year, month, day = (
                    self.r.randint(*span) for span in ((2008, 2024), (1, 12), (1, 28))
                )
                date = f"{year}-{month:02}-{day:02}"
                self.add_old(f"/{old}/{date}-{slug(words)}.htm", [*words, date], names)
                count -= 1

    def numbered(self, count: int) -> None:
        """Addresses that say nothing; only titles and learned numbers help."""
        old, new = self.section()
        carried = self.r.random() < 0.5
        for n in range(min(count, 400)):
            words = self.headline(3, 6)
            facts = {"old": old, "new": new, "n": 300 + n}
            damage = Damage(self.r, self.some_word, mild=True, titled=True)
            self.pair(
                "/{old}/{n}.html",
                "/{new}/{n}-{slug}/" if carried else "/{new}/{slug}/",
                words,
                damage,
                facts,
            )

    def static(self, count: int) -> None:
        old, new = self.section()
        damage = Damage(self.r, self.some_word)
        for _ in range(count):
            self.pair(
                "/{old}/{slug}.html" if self.r.random() < 0.7 else "/{slug}",
                "/{new}/{slug}/",
                self.headline(1, 2),
                damage,
                {"old": old, "new": new},
            )

    def reference(self, count: int) -> None:
        """Members of classes by their dotted names: what differs is an ending, a "to" for a "from",
        a class that begins like another; a package may come in between.
        """
        r = self.r
        old, new = self.section()
        package, ending = self._word(), r.choice([".html", "/", ".html"])
        words = [self._word() for _ in range(max(6, count // 12))]
        classes = [w.title() for w in words[: max(3, count // 25)]]
        classes += [
            f"{c}{r.choice(['Index', 'Array', 'View'])}"
            for c in r.sample(classes, len(classes) // 2)
        ]
        between = {c: f"{self._word()}." for c in classes if r.random() < 0.2}
        dotted = r.random() < 0.7
        for _ in range(count):
            kind, word = r.choice(classes), r.choice(words)
            member = r.choice(
                [
                    "{}",
                    "{}s",
                    "to_{}",
                    "from_{}",
                    "is_{}",
                    "get_{}",
                    "set_{}",
                    "{}_{}",
                    "__{}__",
                    "un{}",
                ]
            ).format(word, r.choice(words))
            name = f"{package}.{kind}.{member}" if dotted else f"{kind}-{member}"
            if r.random() < 0.05:
                name = f"{package}.{kind}" if dotted else kind
            if r.random() < 0.05:
                name = f"{package}.{member}" if dotted else member
            goal = name.replace(f".{kind}", f".{between[kind]}{kind}") if kind in between else name
            names: set[str] = set()
            if r.random() >= self.gone / 2:
                names = {self.add_new(f"/{new}/api/{goal}{ending}", None)}
            self.add_old(f"/{old}/generated/{name}.html", [], names)

    def guides(self, count: int) -> None:
        """Pages of one name under many subjects, which are renamed, merged, or taken apart."""
        r = self.r
        leaves = [
            "usage",
            "overview",
            "setup",
            "introduction",
            "faq",
            "examples",
            "installing",
            "start",
        ]
        old, new = self.section()
        while count > 0:
            subject, moved = self.some_word(), self.some_word()
            kept = r.random() < 0.6
            there = f"/{new}/{subject if kept else moved}"
            merged = r.random() < 0.25
            for leaf in r.sample(leaves, r.randint(1, 4)):
                count -= 1
                said = [subject, leaf]
                if r.random() < self.gone:
                    names: set[str] = set()
                elif merged:
                    names = {self.add_new(f"{there}/", [subject])}
                else:
                    as_before = leaf if r.random() < 0.7 else r.choice([*leaves, self.some_word()])
                    form = r.choice(["{}/{}/", "{}/{}/", "{}/{s}-{}/"])
                    names = {self.add_new(form.format(there, as_before, s=subject), said)}
                self.add_old(f"/{old}/{subject}/{leaf}/", said, names)

    def shop(self, count: int) -> None:
        """Articles by their numbers, which both sites tell beside the address, each in its way."""
        r = self.r
        old, new = self.section()
        head, told = r.choice(["", "SW-", "P"]), r.random() < 0.7
        short = r.random() < 0.4
        kinds = [self.some_word() for _ in range(6)]
        for n in range(min(count, 400)):
            words = [r.choice(kinds), *self.headline(1, 2)]
            if r.random() < 0.2:
                words += [str(r.randint(4, 30))]
            number = str(40_000 + 17 * n)
            names: set[str] = set()
            if r.random() >= self.gone:
                said = words[1:] if short and len(words) > 2 else words
                path = f"/{new}/{slug(words[:1])}/{slug(said)}/"
                names = {
                    self.add_new(path, words, always=True, items=(head + number,) if told else ())
                }
            items = (number,) if told else ()
            self.add_old(f"/{old}.php?nr={number}", words, names, always=True, items=items)

    def pair(
        self, form: str, goal: str, words: list[str], damage: Damage, facts: dict[str, object]
    ) -> None:
        """An old page and, unless it has none, its successor; at times also a new page that is
        merely like it.
        """
        r = self.r
        titled = damage.titled
        names: set[str] = set()
        if r.random() >= self.gone:
            fresh = damage.new_words(words)
            names = {self.add_new(fill(goal, fresh, facts), damage.new_title(fresh), always=titled)}
        elif r.random() < 0.3:
            other = damage.other_page(words)
            self.add_new(fill(goal, other, {**facts, "n": r.randint(100, 99_999)}), other)
        if r.random() < self.extra:
            self.add_new(
                fill(goal, self.headline(2, 5), {**facts, "n": r.randint(100, 99_999)}), None
            )
        self.add_old(fill(form, damage.old_words(words), facts), words, names, always=titled)
        if r.random() < self.again:
            self.add_old(self.other_address(form, words, facts), words, names)

    def other_address(self, form: str, words: list[str], facts: dict[str, object]) -> str:
        """Another address of an old page: from an earlier move, mistyped, or cut short."""
        r = self.r
        kind = r.randrange(4)
        if kind == 0:
            return fill(f"/{self.before}/{{slug}}.html", words, facts)
        if kind == 1:
            out = list(words)
            at = r.randrange(len(out))
            out[at] = misspelt(r, out[at])
            return fill(form, out, facts)
        if kind == 2:
            path = fill(form, words, facts)
            return path[: -r.randint(2, 9)] if len(path) > 24 else f"{path}-{r.choice(FILLERS)}"
        return fill("/{slug}", words, facts)

    def add_new(
        self,
        path: str,
        words: list[str] | None,
        *,
        always: bool = False,
        items: tuple[str, ...] = (),
    ) -> str:
        if path not in self._taken:
            self._taken.add(path)
            said = words and (always or self.r.random() < self.new_titles)
            made = page(path, path, self.title(words or []) + self.brand[1] if said else "")
            self.move.new.append(replace(made, items=items))
        return path

    def add_old(
        self,
        path: str,
        words: list[str],
        names: set[str],
        *,
        always: bool = False,
        items: tuple[str, ...] = (),
    ) -> None:
        if path in self.move.truth:
            self.move.truth[path] |= names
            return
        said = words and (always or self.r.random() < self.old_titles)
        self.move.truth[path] = set(names)
        made = page(path, path, self.title(words) + self.brand[0] if said else "")
        self.move.old.append(replace(made, items=items))

    def title(self, words: list[str]) -> str:
        said = []
        for word in words:
            if self.r.random() < 0.25:
                said.append(self.r.choice(FILLERS))
            said.append(word)
        return " ".join(said).capitalize()
