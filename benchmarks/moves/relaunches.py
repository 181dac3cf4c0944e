"""Made-up relaunches: the old site knows its pages by numbers, the new one by their names; titles
say the same in another order, variants of one thing come together, copies go with what they are
copies of.
"""

from __future__ import annotations

import random

from moves.made import Maker
from moves.site_move import SiteMove
from moves.words import FILLERS, page, slug

_PARTS = ("overview", "fees", "modules", "dates", "reviews", "contents")


def make_relaunch(seed: int) -> SiteMove:
    """A relaunch of some 300 to 1,400 old pages."""
    return _Relaunch(random.Random(f"relaunch {seed}"), 300 + 97 * (seed % 9)).make()


class _Relaunch(Maker):
    def make(self) -> SiteMove:
        r = self.r
        kinds = [
            self.goods,
            self.goods,
            self.houses,
            self.staff,
            self.courses,
            self.stories,
            self.numbered,
        ]
        chosen = r.sample(kinds, r.randint(2, 4))
        self.copied = r.choice([0.0, 0.1, 0.3])
        self.merged = r.choice([0.0, 0.2, 0.5])
        self.ids = r.randint(20, 3_000)
        self.told: set[frozenset[str]] = set()
        for kind in chosen:
            kind(self.size // len(chosen))
        self.static(max(4, self.size // 40))
        r.shuffle(self.move.new)
        r.shuffle(self.move.old)
        return self.move

    def anew(self, *words: str) -> bool:
        """Whether these words, in whatever order, name nothing else."""
        known = frozenset(words) in self.told
        self.told.add(frozenset(words))
        return not known

    def number(self) -> int:
        self.ids += self.r.randint(1, 4)
        return self.ids

    def old_page(self, form: str, words: list[str], goals: set[str]) -> None:
        """An old page, and at times its printed copy."""
        address = form.format(n=self.number())
        self.add_old(address, words, goals, always=True)
        if self.r.random() < self.copied:
            mark = "&" if "?" in address else "?"
            self.add_old(f"{address}{mark}print=1", words, goals, always=True)

    def goods(self, count: int) -> None:
        """Goods by makers, of which some come in variants, with groups of their own."""
        r = self.r
        old, new = self.section()
        makers, models = ([self._word().title() for _ in range(n)] for n in (8, 12))
        kinds = [self.some_word() for _ in range(r.randint(5, 12))]
        numbers = [str(50 * r.randint(2, 20)) for _ in range(8)]
        variants = [[self._word() for _ in range(r.randint(2, 4))] for _ in range(3)]
        variants += [["10 cm", "20 cm"], ["1 l", "5 l", "10 l"], ["36", "38", "40", "42"]]
        order = r.choice([(0, 1, 2, 3), (1, 2, 3, 0), (1, 3, 2, 0), (2, 1, 0, 3)])
        form = r.choice(
            ["/index.php?product={n}", f"/{old}/{{n}}.html", f"/{old}.php?cat=3&item={{n}}"]
        )
        for kind in kinds:
            goals = {self.add_new(f"/{new}/{slug([kind])}/", [kind], always=True)}
            self.old_page(f"/{old}.php?group={{n}}", [kind], goals)
        everything = self.headline(1, 2)
        for maker in makers if r.random() < 0.5 else ():
            path = f"/{new}/makers/{slug([maker])}/"
            title = f"{maker} – {' '.join(everything)}{self.brand[1]}"
            self.move.new.append(page(path, path, title))
            self.old_page(f"/{old}.php?maker={{n}}", [maker], {path})
        made = tries = 0
        while made < count and tries < 2 * count:
            tries += 1
            number = r.choice(["", "", r.choice(numbers)])
            parts = [r.choice(makers), r.choice(kinds), r.choice(models), number]
            if not self.anew(*parts):
                continue
            words = [w for w in parts if w]
            named = [parts[n] for n in order if parts[n]]
            said = [*named[:-1], r.choice(FILLERS), named[-1]] if r.random() < 0.3 else named
            path = f"/{new}/{slug([parts[1]])}/{slug(named)}"
            gone = r.random() < self.gone
            if r.random() >= self.merged:
                self.old_page(form, words, set() if gone else {self._good(path, said)})
                made += 1
            else:
                apart = r.random() < 0.2  # the new site has a page of each
                for variant in r.choice(variants):
                    own = f"{path}-{slug(variant.split())}" if apart else path
                    told = [*said, variant] if apart else said
                    self.old_page(
                        form, [*words, variant], set() if gone else {self._good(own, told)}
                    )
                    made += 1
            if r.random() < self.extra:
                other = [r.choice(makers), parts[1], r.choice(models)]
                if self.anew(*other, ""):
                    self._good(f"/{new}/{slug([parts[1]])}/{slug(other)}", other)

    def _good(self, path: str, words: list[str]) -> str:
        return self.add_new(f"{path}/", words, always=True)

    def houses(self, count: int) -> None:
        """Houses by place, whose names are put together of a few words, and whose titles have words
        that those of all have; each with pages of its parts, which come together.
        """
        r = self.r
        old, new = self.section()
        first, second = ([self._word().title() for _ in range(n)] for n in (12, 10))
        places = [self._word().title() for _ in range(r.randint(4, 20))]
        before, behind = (self.headline(0, 2) for _ in range(2))
        parts = [self.some_word() for _ in range(2)]
        together = r.random() < 0.7
        letters = self._word()[:2].upper()
        for place in places:
            goals = {self.add_new(f"/{new}/{slug([place])}/", [place], always=True)}
            self.old_page(f"/{old}-{slug([place])}.php", [place], goals)
        made = tries = 0
        while made < count and tries < 2 * count:
            tries += 1
            words = [r.choice(first), r.choice(second), r.choice(places)]
            if not self.anew(*words):
                continue
            gone = r.random() < self.gone
            goals: set[str] = set()
            path = f"/{new}/{slug(words[2:])}/{slug(words[:2])}/"
            if not gone:
                goals = {self.add_new(path, [*before, *words, *behind], always=True)}
            self.old_page(f"/{old}.php?code={letters}{{n}}", words, goals)
            made += 1
            for part in parts if r.random() < 0.4 else ():
                told = [part, *words]
                if not gone and not together:
                    goals = {self.add_new(f"{path}{slug([part])}/", told, always=True)}
                self.old_page(f"/{old}/{slug([part])}.php?code={letters}{{n}}", told, goals)
                made += 1

    def staff(self, count: int) -> None:
        """People: the last name first, or not, with a degree before it, or not."""
        r = self.r
        old, new = self.section()
        first, last = ([self._word().title() for _ in range(n)] for n in (40, 160))
        reverse, titled = r.random() < 0.6, r.random() < 0.5
        for _ in range(min(count, 300)):
            name, family = r.choice(first), r.choice(last)
            if not self.anew(name, family):
                continue
            goals: set[str] = set()
            if r.random() >= self.gone:
                said = [*([r.choice(["Dr", "Prof."])] if titled else []), name, family]
                goals = {self.add_new(f"/{new}/{slug([name, family])}", said, always=True)}
            words = [f"{family},", name] if reverse else [name, family]
            self.old_page(f"/{old}/profile.aspx?id={{n}}", words, goals)

    def courses(self, count: int) -> None:
        """Subjects by degree, each with pages of its parts, which come together."""
        r = self.r
        old, new = self.section()
        degrees = [self._word().title() for _ in range(r.randint(2, 4))]
        together = r.random() < 0.7
        made = 0
        while made < count:
            subject = self.headline(1, 2)
            for degree in degrees:
                made += 1
                if not self.anew(*subject, degree):
                    continue
                goals: set[str] = set()
                path = f"/{new}/{slug(subject)}-{slug([degree])}/"
                gone = r.random() < self.gone
                if not gone:
                    goals = {self.add_new(path, [*subject, f"({degree})"], always=True)}
                self.old_page(f"/{old}.aspx?code={{n}}", [degree, *subject], goals)
                for part in r.sample(_PARTS, r.randint(0, 3)):
                    if not gone and not together:
                        own = [*subject, f"({degree})", part]
                        goals = {self.add_new(f"{path}{part}/", own, always=True)}
                    self.old_page(
                        f"/{old}.aspx?code={{n}}&tab={part}", [degree, *subject, part], goals
                    )
                    made += 1

    def stories(self, count: int) -> None:
        """News by their headlines, of which those before a year are left behind."""
        r = self.r
        old, new = self.section()
        since = r.randint(2004, 2014)
        subjects = [self.headline(1, 2) for _ in range(12)]
        form = r.choice(["/{old}/{y}/{m:02}/{slug}.aspx", "/{old}/{y}-{m:02}-{slug}/"])
        goal = r.choice(["/{new}/{slug}-{y}", "/{new}/{slug}", "/{new}/{y}/{slug}"])
        for _ in range(count):
            words = [*r.choice(subjects), *self.headline(2, 3)]
            if not self.anew(*words):
                continue
            year, month = r.randint(2004, 2022), r.randint(1, 12)
            goals: set[str] = set()
            if year >= since and r.random() >= self.gone / 3:
                address = goal.format(new=new, slug=slug(words), y=year)
                goals = {self.add_new(address, words, always=True)}
            cut = slug(words)[:40].rstrip("-")
            self.old_page(form.format(old=old, slug=cut, y=year, m=month), words, goals)
