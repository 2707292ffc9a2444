"""
What the heading of a column says of it: one witness among others, and worth nothing where its words are not known.

Words of ten languages: English, German, French, Spanish, Italian, Dutch, Portuguese, Polish, Swedish, Turkish. Their
phrases for each of our columns stand with the columns (`kinds`); here stand the words beside them that make another
thing of it.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Final

from rapidfuzz import fuzz

from nimbus_reef.formats.kinds import KINDS

WHOLE, OWN_NAME, BESIDE_NEUTRAL, BESIDE_WINDOW, BESIDE_UNKNOWN, NEARLY = 6.0, 6.5, 4.5, 3.5, 2.0, 3.0
ANOTHER_THING: Final = -5.0
SURELY: Final = 4.5
SURELY_ANOTHER: Final = -3.5
"""What a heading that is surely one column counts against all others."""
_NEARLY_FROM: Final = 88
_BRACKETS: Final = re.compile(r"[(\[{][^)\]}]*[)\]}]")
_CURRENCY: Final = re.compile(
    r"[€£¥$₹₺]|\b(?:eur|usd|gbp|chf|sek|pln|try|jpy|inr|cad|aud|brl|mxn|nok|dkk|czk|huf|ron)\b"
)


def _words(text: str) -> frozenset[str]:
    return frozenset(normal(text).split())


@lru_cache(maxsize=20_000)
def normal(text: str) -> str:
    """Lower case, accents, brackets and currencies off, one space between words."""
    plain = unicodedata.normalize(
        "NFKD", text.lower().replace("ß", "ss").replace("ł", "l").replace("ı", "i").replace("ø", "o")
    )
    plain = "".join(letter for letter in plain if not unicodedata.combining(letter))
    plain = _CURRENCY.sub(" ", _BRACKETS.sub(" ", plain))
    return " ".join(re.sub(r"[^a-z0-9]+", " ", plain).split())


OF_A_BARE_LIST: Final = "keyword"
"""What a file of one column without a heading holds."""


@lru_cache(maxsize=1)
def _known() -> frozenset[str]:
    columns = (column for kind in KINDS.values() for column in kind.columns)
    return frozenset(normal(text) for each in columns for text in (each.name, *each.words))


def is_known(header: str) -> bool:
    """Whether a text is how some column of a report is headed."""
    return normal(header) in _known()


_NEUTRAL: Final = _words(
    "of the from by for in on ad ads advertising advertised name text value amount number count no sum reported own "
    "der die das des von vom aus mit fur anzeigen werbung werbe name wert betrag anzahl nummer summe gesamt "
    "de la le les du des par pour publicite annonce annonces nom valeur montant nombre numero somme "
    "del los las el por para anuncio anuncios publicidad nombre valor importe numero cantidad suma "
    "della delle dei di il lo per annuncio annunci pubblicita nome valore importo numero somma "
    "van het een voor advertentie advertenties naam waarde bedrag aantal nummer som "
    "do da dos das em anuncios publicidade nome valor quantia numero soma "
    "z ze na reklamy reklam nazwa wartosc kwota liczba numer suma "
    "av fran annons annonser namn varde belopp antal nummer summa "
    "reklam reklamlar adi deger tutar sayisi numara toplam"
)
_WINDOW: Final = _words(
    "day days d tag tage tagen jour jours dia dias giorno giorni dag dagen dzien dni dagar gun within after innerhalb"
    " nach"
)
ALL_TRADE: Final = _words(
    "total all overall complete gesamt alle insgesamt totale total totaux tous toutes todo todos todas tutti tutte"
    " totaal alles totais caly razem totalt toplam tum"
)
ADS: Final = _words(
    "ad ads advertising advertised sponsored anzeigen werbung werbe annonce annonces publicite anuncio anuncios"
    " publicidad annuncio annunci advertentie reklama reklamy annons reklam"
)
_LOOK_ALIKES: Final = _words(
    # a rate, a share, an average
    "per pro par por cada ogni av rate quote rato ratio taux tasa tasso tarief taxa wskaznik andel oran share anteil"
    " part parte quota aandeel udzial pay average avg mean durchschnitt durchschnittlich durchschnittliche"
    " durchschnittlicher moyen moyenne medio media promedio gemiddeld gemiddelde srednia srednio genomsnitt"
    " genomsnittlig ortalama percent percentage prozent pourcentage porcentaje percentuale procent yuzde index "
    # not of the ads, or not all of it
    "organic organisch organische organique organico organica organicos organisk organiczne organik new neu neue neuer"
    " neukunden nouveau nouvelle nouveaux nuevo nueva nuevos nuovo nuova nuovi nieuw nieuwe novo nova novos nowy nowa"
    " nowe ny nya yeni same gleich gleicher gleiche selbe meme mismo misma stesso stessa zelfde mesmo mesma sam ten"
    " samma ayni other others andere anderer anderen anderes sonstige autre autres otro otra otros altro altra altri"
    " ander outro outra outros inne inny annan andra annat diger halo brand repeat returning viewed view viewthrough "
    # another time
    "last previous prior letzte letzter letzten vorige vorheriger vorperiode vormonat dernier derniere precedent"
    " precedente ultimo ultima anterior scorso scorsa vorig vorige laatste passado passada ostatni poprzedni forra"
    " foregaende senaste gecen onceki change diff difference delta growth trend forecast expected veranderung anderung"
    " differenz prognose evolution variation cambio variazione variacion verschil zmiana forandring degisim "
    # bought instead, set instead of spent
    "purchased gekauft gekaufte gekauftes gekaufter achete comprado comprada acquistato gekocht comprado kupiony kopt"
    " satin budget budgets presupuesto budzet orcamento butce bid bids gebot gebote enchere puja offerta bod lance"
    " stawka bud teklif price preis prix precio prezzo prijs preco cena pris fiyat max maximum min minimum target ziel"
    " objectif objetivo obiettivo limit cap rank rang position estimated estimate geschatzt estime estimado stimato"
    " invalid ungultig ungultige returned returns refunded storniert cancelled lost verloren cart basket warenkorb"
)
_COMPOUNDS: Final = (
    "rate",
    "quote",
    "anteil",
    "preis",
    "budget",
    "gebot",
    "ziel",
    "wert je",
    "prognose",
    "limit",
    "rang",
    "andel",
    "kvot",
    "pris",
    "prijs",
    "percentage",
    "aandeel",
    "kosten je",
)
"""What a compound of one word ends with that makes another thing of its beginning: Klickrate, Umsatzanteil."""


def nats(header: str, phrases: Sequence[str], *, own: str = "", all_trade: bool | None = None) -> float:
    """
    What a heading says for a column, in nats. phrases: how such a column is headed; own: our name of it; all_trade:
    whether it counts all trade (True), the ads alone (False), or neither (None).
    """
    text = normal(header)
    if not text:
        return 0.0
    if own and text == normal(own):
        return OWN_NAME
    value = _phrase_nats(text, tuple(normal(phrase) for phrase in phrases))
    if all_trade is None or value == 0.0:
        return value
    words = set(text.split())
    if words & ALL_TRADE:
        value += 1.0 if all_trade else -3.0
    if words & ADS:
        value += -3.0 if all_trade else 1.0
    return value


def names_window(header: str) -> bool:
    """Whether a heading names a window of days, as in “7 day orders”."""
    words = normal(header).split()
    return any(re.fullmatch(r"\d{1,2}d?", word) for word in words) and (
        bool(set(words) & _WINDOW) or any(re.fullmatch(r"\d{1,2}d", word) for word in words)
    )


@lru_cache(maxsize=50_000)
def _phrase_nats(text: str, phrases: tuple[str, ...]) -> float:
    if text in phrases:
        return WHOLE
    words = text.split()
    best = 0.0
    for phrase in sorted(phrases, key=len, reverse=True):
        rest = _beside(words, phrase.split())
        if rest is None:
            continue
        if rest & _LOOK_ALIKES:
            return ANOTHER_THING
        if rest <= _NEUTRAL | ALL_TRADE | ADS:
            best = max(best, BESIDE_NEUTRAL)
        elif all(word in _NEUTRAL | _WINDOW or word.isdigit() or re.fullmatch(r"\d+d", word) for word in rest):
            best = max(best, BESIDE_WINDOW)
        else:
            best = max(best, BESIDE_UNKNOWN)
    if best:
        return best
    if len(words) == 1 and any(_is_compound(words[0], phrase) for phrase in phrases):
        return ANOTHER_THING
    if set(words) & _LOOK_ALIKES:
        return 0.0
    return NEARLY if any(fuzz.ratio(text, phrase) >= _NEARLY_FROM for phrase in phrases) else 0.0


def _beside(words: Sequence[str], phrase: Sequence[str]) -> frozenset[str] | None:
    """The words of a heading beside a phrase in it; None where the phrase is not in it."""
    size = len(phrase)
    for start in range(len(words) - size + 1):
        if list(words[start : start + size]) == list(phrase):
            return frozenset([*words[:start], *words[start + size :]])
    return None


def _is_compound(word: str, phrase: str) -> bool:
    stem = phrase.rstrip("s")
    return len(stem) > 3 and word.startswith(stem) and any(word.endswith(end) for end in _COMPOUNDS) and word != phrase


def by_role(headers: Sequence[str], roles: Iterable[tuple[str, Sequence[str], bool | None]]) -> dict[str, list[float]]:
    """
    By role, the nats of every heading; one that is surely one role counts against all others. roles: name, phrases,
    all_trade.
    """
    by_key = {
        name: [nats(header, phrases, own=name, all_trade=trade) for header in headers] for name, phrases, trade in roles
    }
    for index in range(len(headers)):
        # A look-alike of one measure, such as organic sales, is not another measure either.
        if any(entries[index] == ANOTHER_THING for entries in by_key.values()):
            for entries in by_key.values():
                entries[index] = entries[index] if entries[index] >= BESIDE_WINDOW else ANOTHER_THING
        best = max(by_key, key=lambda name: by_key[name][index], default=None)
        if best is not None and by_key[best][index] >= BESIDE_WINDOW:
            for name in by_key:
                if by_key[name][index] < BESIDE_WINDOW:
                    by_key[name][index] = min(by_key[name][index], SURELY_ANOTHER)
    return by_key
