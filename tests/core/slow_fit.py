"""The fit by plain loops, as evidence.md words it: one level after the other, until nothing moves."""

from __future__ import annotations

import math
from collections import defaultdict

PRODUCT, WORD, AD_GROUP, TARGET = "product", "word", "ad group", "target"
FAMILIES = (PRODUCT, WORD, AD_GROUP, TARGET)
SPREADS = [128 * 2 ** (-i / 2) for i in range(15)]
STRENGTHS = [5 * 2 ** (i / 2) for i in range(14)]


def ln_beta(x, y):
    return math.lgamma(x) + math.lgamma(y) - math.lgamma(x + y)


class SlowFit:
    """cells: dicts of n, k, row and, per family, a tuple of levels."""

    def __init__(self, cells):
        self.cells = [dict(cell) for cell in cells]
        self.mean = sum(cell["k"] for cell in cells) / sum(cell["n"] for cell in cells)
        self.clicks = defaultdict(float)
        for cell in self.cells:
            self.clicks[cell["row"]] += cell["n"]
        self.members = {name: self._members(name) for name in FAMILIES}
        self.beta = {(name, level): 0.0 for name, found in self.members.items() for level in found}
        self.spread = {}
        self._work()

    def _members(self, name):
        found = defaultdict(list)
        for index, cell in enumerate(self.cells):
            for level in cell.get(name, ()):
                if cell["n"] > 0:
                    found[level].append(index)
        found = {level: inside for level, inside in found.items() if len({self.cells[i]["row"] for i in inside}) >= 2}
        if name == WORD:
            alike = defaultdict(list)
            for level, inside in found.items():
                alike[tuple(inside)].append(level)
            found = {" + ".join(sorted(levels)): list(inside) for inside, levels in alike.items()}
        for level, inside in found.items():
            for index in inside:
                self.cells[index].setdefault("in", []).append((name, level))
        return found

    def _due(self, index):
        cell = self.cells[index]
        return cell["n"] * self.mean * math.exp(sum(self.beta[each] for each in cell.get("in", ())))

    def _sums(self, name, level):
        inside = self.members[name][level]
        k = sum(self.weight[i] * self.cells[i]["k"] for i in inside)
        e = sum(self.weight[i] * self._due(i) for i in inside) / math.exp(self.beta[name, level])
        return k, e

    def _climb(self, names):
        for _ in range(3000):
            moved = 0.0
            for name in names:
                for level in self.members[name]:
                    k, e = self._sums(name, level)
                    better = math.log((self.spread[name] + k) / (self.spread[name] + e))
                    moved = max(moved, abs(better - self.beta[name, level]))
                    self.beta[name, level] = better
            if moved < 1e-9:
                return

    def _work(self):
        self.s, asked = 60.0, []
        for again in (False, True):
            if again:
                self.s = self.strength_of(self.term_rows())
            self.weight = [(self.s + 1) / (self.s + self.clicks[cell["row"]]) for cell in self.cells]
            for name in FAMILIES:
                if not self.members[name]:
                    continue
                sums = [self._sums(name, level) for level in self.members[name]]
                best = -math.inf
                for alpha in SPREADS:
                    value = (
                        sum(
                            math.lgamma(alpha + k)
                            - math.lgamma(alpha)
                            + alpha * math.log(alpha)
                            - (alpha + k) * math.log(alpha + e)
                            for k, e in sums
                        )
                        - 0.5 * math.log(alpha / 10) ** 2
                    )
                    if value > best + 1e-6:
                        best, self.spread[name] = value, alpha
                if name not in asked:
                    asked.append(name)
                if name == WORD:
                    self._climb(asked)
                    continue
                moved = [math.log((self.spread[name] + k) / (self.spread[name] + e)) for k, e in sums]
                for level, beta in zip(self.members[name], moved, strict=True):
                    self.beta[name, level] = beta
        self._climb(asked)

    def term_rows(self, without=()):
        """Of each term of an ad group: n, k, m, u."""
        return self._rows("row", without)

    def target_rows(self, without=()):
        """The same of each target."""
        return self._rows("target row", without)

    def _rows(self, key, without):
        inside = defaultdict(list)
        for index, cell in enumerate(self.cells):
            inside[cell[key]].append(index)
        return {row: self._row(indices, without) for row, indices in inside.items()}

    def _row(self, indices, without):
        own_k = defaultdict(float)
        own_e = defaultdict(float)
        for i in indices:
            for each in self.cells[i].get("in", ()):
                own_k[each] += self.weight[i] * self.cells[i]["k"]
                own_e[each] += self.weight[i] * self._due(i) / math.exp(self.beta[each])
        a = sum(w * c["k"] for w, c in zip(self.weight, self.cells, strict=True))
        b = sum(w * self._due(i) for i, w in enumerate(self.weight))
        a = max(0.5, a - sum(self.weight[i] * self.cells[i]["k"] for i in indices))
        b = max(0.5, b - sum(self.weight[i] * self._due(i) for i in indices))
        n = sum(self.cells[i]["n"] for i in indices)
        m = width = 0.0
        for i in indices:
            mean, spread = self.mean * a / b, math.log(1 + 1 / a)
            for each in self.cells[i].get("in", ()):
                if each[0] in without:
                    continue
                alpha = self.spread[each[0]]
                k, e = self._sums_of(each)
                k, e = max(0.0, k - own_k[each]), max(0.0, e - own_e[each])
                mean *= (alpha + k) / (alpha + e)
                spread += math.log(1 + 1 / (alpha + k))
            m += self.cells[i]["n"] / n * mean
            width += self.cells[i]["n"] / n * spread
        return n, sum(self.cells[i]["k"] for i in indices), min(max(m, 1e-6), 0.6), math.exp(width) - 1

    def _sums_of(self, each):
        held = self.__dict__.setdefault("held", {})
        state = (self.s, self.mean, sum(self.beta.values()))
        if held.get("state") != state:
            held.clear()
            held["state"] = state
        if each not in held:
            held[each] = self._sums(*each)
        return held[each]

    @staticmethod
    def worth(m, u, s):
        c = (1 + u) * (1 + (1 - m) / (m * (s + 1))) - 1
        return max(1.0, (1 - m) / (m * c) - 1)

    def strength_of(self, rows):
        usable = [row for row in rows.values() if row[0] >= 2]
        if len(usable) < 5 or max(row[0] for row in rows.values()) > sum(row[0] for row in rows.values()) / 2:
            return 20.0
        best, found = -math.inf, None
        for s in STRENGTHS:
            value = -0.5 * (math.log(s / 30) / 0.7) ** 2
            for n, k, m, u in usable:
                worth = self.worth(m, u, s)
                value += ln_beta(m * worth + k, (1 - m) * worth + n - k) - ln_beta(m * worth, (1 - m) * worth)
            if value > best + 1e-6:
                best, found = value, s
        return found
