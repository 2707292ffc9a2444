"""
How well columns are recognised: header sets in ten languages with look-alike columns, and headings that say nothing, on
simulated reports.

    python benchmarks/mapping.py [--write]

--write makes docs/mapping.md. The tables are simulated with seeds of their own; every one is read as an unknown file.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import Path
from random import Random
from statistics import median
from typing import Final

import polars as pl

from nimbus_reef.formats import mapping
from nimbus_reef.formats.raw import LINE, RawTable
from nimbus_reef.sim import brand
from nimbus_reef.sim.vocabulary import BRANDS

LAST: Final = date(2026, 10, 20)
DAYS: Final = 40
DOCUMENT: Final = Path("docs/mapping.md")
MEASURES: Final = ("impressions", "clicks", "spend", "orders", "units", "sales")
TRADE: Final = ("sessions", "total_orders", "total_units", "total_sales")
MONEY: Final = ("spend", "sales", "total_sales")
KINDS: Final[Mapping[str, tuple[str, ...]]] = {
    "campaign_daily": ("date", "campaign", *MEASURES),
    "target_daily": ("date", "campaign", "ad_group", "target", "match_type", *MEASURES),
    "search_term_daily": ("date", "campaign", "ad_group", "target", "match_type", "search_term", *MEASURES),
    "product_ad_daily": ("date", "campaign", "ad_group", "sku", *MEASURES),
    "placement_daily": ("date", "campaign", "placement", *MEASURES),
    "hourly": ("date", "hour", "campaign", *MEASURES),
    "product_sales_daily": ("date", "sku", *TRADE),
}
_ROLES: Final = (
    "date",
    "hour",
    "campaign",
    "ad_group",
    "target",
    "match_type",
    "search_term",
    "sku",
    "placement",
    "impressions",
    "clicks",
    "spend",
    "orders",
    "units",
    "sales",
    "sessions",
    "total_orders",
    "total_units",
    "total_sales",
)
LANGUAGES: Final[Mapping[str, tuple[str, ...]]] = {
    "English": (
        "Day",
        "Hour",
        "Campaign name",
        "Ad group",
        "Keyword",
        "Match type",
        "Search term",
        "Advertised SKU",
        "Placement",
        "Impressions",
        "Clicks",
        "Cost",
        "Orders",
        "Units sold",
        "Revenue",
        "Visits",
        "All orders",
        "All units",
        "Total revenue",
    ),
    "German": (
        "Tag",
        "Stunde",
        "Kampagne",
        "Anzeigengruppe",
        "Schlüsselwort",
        "Übereinstimmungstyp",
        "Suchbegriff",
        "Artikelnummer",
        "Platzierung",
        "Impressionen",
        "Klicks",
        "Kosten (EUR)",
        "Käufe",
        "Stück",
        "Erlös",
        "Sitzungen",
        "Bestellungen gesamt",
        "Einheiten gesamt",
        "Umsatz gesamt",
    ),
    "French": (
        "Jour",
        "Heure",
        "Campagne",
        "Groupe d'annonces",
        "Mot-clé",
        "Type de correspondance",
        "Terme de recherche",
        "Produit",
        "Emplacement",
        "Impressions",
        "Clics",
        "Dépenses",
        "Commandes",
        "Unités",
        "Chiffre d'affaires",
        "Visites",
        "Total des commandes",
        "Total des unités",
        "Total des ventes",
    ),
    "Spanish": (
        "Día",
        "Hora",
        "Campaña",
        "Grupo de anuncios",
        "Palabra clave",
        "Tipo de concordancia",
        "Término de búsqueda",
        "Producto",
        "Ubicación",
        "Impresiones",
        "Clics",
        "Gasto",
        "Pedidos",
        "Unidades",
        "Ventas",
        "Sesiones",
        "Pedidos totales",
        "Unidades totales",
        "Ventas totales",
    ),
    "Italian": (
        "Data",
        "Ora",
        "Campagna",
        "Gruppo di annunci",
        "Parola chiave",
        "Tipo di corrispondenza",
        "Termine di ricerca",
        "Prodotto",
        "Posizionamento",
        "Impressioni",
        "Clic",
        "Spesa",
        "Ordini",
        "Unità",
        "Vendite",
        "Sessioni",
        "Ordini totale",
        "Unità totale",
        "Vendite totale",
    ),
    "Dutch": (
        "Dag",
        "Uur",
        "Campagne",
        "Advertentiegroep",
        "Zoekwoord",
        "Zoektype",
        "Zoekterm",
        "Artikelnummer",
        "Plaatsing",
        "Vertoningen",
        "Klikken",
        "Kosten",
        "Bestellingen",
        "Stuks",
        "Omzet",
        "Bezoeken",
        "Totaal bestellingen",
        "Totaal stuks",
        "Totaal omzet",
    ),
    "Portuguese": (
        "Data",
        "Hora",
        "Campanha",
        "Conjunto de anúncios",
        "Palavra-chave",
        "Tipo de correspondência",
        "Termo de pesquisa",
        "Produto",
        "Posicionamento",
        "Impressões",
        "Cliques",
        "Custo",
        "Encomendas",
        "Unidades",
        "Vendas",
        "Visitas",
        "Total encomendas",
        "Total unidades",
        "Total vendas",
    ),
    "Polish": (
        "Data",
        "Godzina",
        "Kampania",
        "Grupa reklam",
        "Słowo kluczowe",
        "Typ dopasowania",
        "Wyszukiwane hasło",
        "Numer artykułu",
        "Umiejscowienie",
        "Wyświetlenia",
        "Kliknięcia",
        "Koszt",
        "Zamówienia",
        "Sztuki",
        "Sprzedaż",
        "Sesje",
        "Zamówienia razem",
        "Sztuki razem",
        "Sprzedaż razem",
    ),
    "Swedish": (
        "Datum",
        "Timme",
        "Kampanj",
        "Annonsgrupp",
        "Nyckelord",
        "Matchningstyp",
        "Sökterm",
        "Artikelnummer",
        "Placering",
        "Visningar",
        "Klick",
        "Kostnad",
        "Beställningar",
        "Enheter",
        "Försäljning",
        "Besök",
        "Beställningar totalt",
        "Enheter totalt",
        "Försäljning totalt",
    ),
    "Turkish": (
        "Tarih",
        "Saat",
        "Kampanya",
        "Reklam grubu",
        "Anahtar kelime",
        "Eşleme türü",
        "Arama terimi",
        "Ürün kodu",
        "Yerleşim",
        "Gösterim",
        "Tıklama",
        "Harcama",
        "Sipariş",
        "Adet",
        "Satış",
        "Oturum",
        "Toplam sipariş",
        "Toplam adet",
        "Toplam satış",
    ),
}
"""How a marketplace of each language might head its columns, in the order of `_ROLES`."""
LOOK_ALIKES: Final[Mapping[str, tuple[str, ...]]] = {
    "English": (
        "Cost per click",
        "Click rate",
        "Cost of sale %",
        "Sales per order",
        "Organic sales",
        "New customer sales",
        "Clicks last period",
        "Same product sales",
        "Other product sales",
    ),
    "German": (
        "Kosten pro Klick",
        "Klickrate",
        "Umsatzanteil Kosten %",
        "Umsatz pro Bestellung",
        "Organischer Umsatz",
        "Umsatz neue Kunden",
        "Klicks Vorperiode",
        "Umsatz gleicher Artikel",
        "Umsatz anderer Artikel",
    ),
    "French": (
        "Coût par clic",
        "Taux de clics",
        "Part des dépenses %",
        "Ventes par commande",
        "Ventes organiques",
        "Ventes nouveaux clients",
        "Clics période précédente",
        "Ventes même produit",
        "Ventes autres produits",
    ),
    "Spanish": (
        "Coste por clic",
        "Tasa de clics",
        "Gasto sobre ventas %",
        "Ventas por pedido",
        "Ventas orgánicas",
        "Ventas nuevos clientes",
        "Clics periodo anterior",
        "Ventas mismo producto",
        "Ventas otros productos",
    ),
    "Italian": (
        "Costo per clic",
        "Tasso di clic",
        "Quota di spesa %",
        "Vendite per ordine",
        "Vendite organiche",
        "Vendite nuovi clienti",
        "Clic periodo scorso",
        "Vendite stesso prodotto",
        "Vendite altri prodotti",
    ),
    "Dutch": (
        "Kosten per klik",
        "Klikratio",
        "Kosten aandeel %",
        "Omzet per bestelling",
        "Organische omzet",
        "Omzet nieuwe klanten",
        "Klikken vorige periode",
        "Omzet zelfde product",
        "Omzet andere producten",
    ),
    "Portuguese": (
        "Custo por clique",
        "Taxa de cliques",
        "Custo percentual %",
        "Vendas por encomenda",
        "Vendas orgânicas",
        "Vendas novos clientes",
        "Cliques período anterior",
        "Vendas mesmo produto",
        "Vendas outros produtos",
    ),
    "Polish": (
        "Koszt za kliknięcie",
        "Wskaźnik kliknięć",
        "Udział kosztu %",
        "Sprzedaż na zamówienie",
        "Sprzedaż organiczna",
        "Sprzedaż nowi klienci",
        "Kliknięcia poprzedni okres",
        "Sprzedaż ten sam produkt",
        "Sprzedaż inne produkty",
    ),
    "Swedish": (
        "Kostnad per klick",
        "Klickandel",
        "Kostnad andel %",
        "Försäljning per beställning",
        "Organisk försäljning",
        "Försäljning nya kunder",
        "Klick föregående period",
        "Försäljning samma produkt",
        "Försäljning andra produkter",
    ),
    "Turkish": (
        "Tıklama başına maliyet",
        "Tıklama oranı",
        "Maliyet oranı %",
        "Sipariş başına satış",
        "Organik satış",
        "Yeni müşteri satış",
        "Önceki tıklama",
        "Aynı ürün satış",
        "Diğer ürün satış",
    ),
}


@dataclass(frozen=True)
class Sheet:
    """A table as somebody might have it. truth: ours → the header that means it."""

    name: str
    kind: str
    table: RawTable
    truth: Mapping[str, str]


@dataclass(frozen=True)
class Told:
    """
    What was made of one sheet. Of its columns: right, asked (with the right one among the choices),
    wrong, missed.
    """

    sheet: Sheet
    kind: str
    columns: Mapping[str, str]
    seconds: float

    @property
    def wrong(self) -> dict[str, str]:
        """Measures and names that another column was taken for."""
        return {name: how for name, how in self.columns.items() if how == "wrong"}


@cache
def _frames(seed: int) -> list[Mapping[str, pl.DataFrame]]:
    return [brand.simulate(spec, seed, DAYS, LAST).frames for spec in BRANDS]


def _part(frame: pl.DataFrame, columns: Sequence[str], rows: int, rng: Random) -> pl.DataFrame:
    """So many rows in a run, of those with something in them: what somebody's report begins with."""
    # As such reports are handed out: a campaign's hours one after the other.
    ordered = frame.sort("campaign", "date", "hour") if "hour" in columns else frame
    table = ordered.select(columns).filter(pl.sum_horizontal(pl.col(pl.Int64, pl.Int32, pl.UInt32, pl.Float64)) > 0)
    start = rng.randrange(max(1, len(table) - rows))
    return table.slice(start, rows)


def _beside(rows: pl.DataFrame, rng: Random) -> dict[str, pl.Series]:
    """The look-alike columns, in the order of `LOOK_ALIKES`."""
    clicks, impressions, orders = (rows[name].cast(pl.Float64) for name in ("clicks", "impressions", "orders"))
    spend, sales = rows["spend"].cast(pl.Float64), rows["sales"].cast(pl.Float64)

    def ratio(a: pl.Series, b: pl.Series, factor: float = 1.0) -> pl.Series:
        return pl.Series([f"{factor * x / y:.2f}" if y else "" for x, y in zip(a, b, strict=True)])

    def percent(a: pl.Series, b: pl.Series) -> pl.Series:
        return pl.Series([f"{100 * x / y:.2f}%" if y else "" for x, y in zip(a, b, strict=True)])

    organic = pl.Series([f"{rng.uniform(5, 60) * rng.randint(0, 4):.2f}" for _ in range(len(rows))])
    new = pl.Series([f"{x if rng.random() < 0.6 else 0:.2f}" for x in sales])
    last = pl.Series([str(int(x * rng.uniform(0.3, 1.6) + rng.randint(0, 3))) for x in clicks])
    same = [round(x if rng.random() < 0.7 else 0.0, 2) for x in sales]
    other = [round(x - y, 2) for x, y in zip(sales, same, strict=True)]
    return dict(
        enumerate_names(
            ratio(spend, clicks),
            percent(clicks, impressions),
            percent(spend, sales),
            ratio(sales, orders),
            organic,
            new,
            last,
            pl.Series([f"{x:.2f}" for x in same]),
            pl.Series([f"{x:.2f}" for x in other]),
        )
    )


def enumerate_names(*columns: pl.Series) -> Iterator[tuple[str, pl.Series]]:
    """Each column under its place among the look-alikes."""
    for place, column in enumerate(columns):
        yield str(place), column


def _as_text(rows: pl.DataFrame) -> pl.DataFrame:
    money = [name for name in MONEY if name in rows.columns]
    written = rows.with_columns(pl.Series(name, [f"{float(each):.2f}" for each in rows[name]]) for name in money)
    return written.with_columns(pl.all().cast(pl.String).fill_null(""))


def _raw(frame: pl.DataFrame) -> RawTable:
    return RawTable(frame.with_columns(pl.int_range(1, pl.len() + 1).alias(LINE)), tuple(frame.columns))


def sheets(*, seed: int, rows: int, look_alikes: bool, headed: bool) -> Iterator[Sheet]:
    """Header sets of both brands: one a kind and language, or one a kind where the headings say nothing."""
    rng = Random(seed)
    for frames in _frames(seed):
        for kind, columns in KINDS.items():
            for language in LANGUAGES if headed else ("English",):
                cut = _part(frames[kind], columns, rows, rng)
                beside = _beside(cut, rng) if look_alikes and "clicks" in columns else {}
                names = dict(zip(_ROLES, LANGUAGES[language], strict=True))
                frame = _as_text(cut).rename({name: names[name] for name in columns})
                frame = frame.with_columns(
                    **{LOOK_ALIKES[language][int(place)]: cells for place, cells in beside.items()}
                )
                order = list(frame.columns)
                rng.shuffle(order)
                frame = frame.select(order)
                truth = {name: names[name] for name in columns}
                if not headed:
                    plain = {header: f"Column {number}" for number, header in enumerate(order, 1)}
                    frame, truth = frame.rename(plain), {name: plain[header] for name, header in truth.items()}
                yield Sheet(f"{kind}, {language if headed else 'nothing to read'}", kind, _raw(frame), truth)


def told(sheet: Sheet) -> Told:
    """What is made of a sheet that nobody has seen before."""
    begun = time.perf_counter()
    best = mapping.suggest_kind(sheet.table)[0]
    seconds = time.perf_counter() - begun
    columns = {}
    for name, header in sheet.truth.items():
        if name in best.asked:
            columns[name] = "asked" if header in best.asked[name] else "wrong"
        else:
            taken = best.mapping.columns.get(name)
            columns[name] = "missed" if taken is None else "right" if taken == header else "wrong"
    return Told(sheet, best.mapping.kind, columns, seconds)


def line(name: str, rows: int, all_told: Sequence[Told]) -> str:
    """One row of the table."""

    def share(kinds: Sequence[str]) -> str:
        counts = Counter(how for each in all_told for name, how in each.columns.items() if name in kinds)
        total = sum(counts.values()) or 1
        return " / ".join(f"{100 * counts[how] / total:.1f}" for how in ("right", "asked", "wrong", "missed"))

    right_kind = sum(each.kind == each.sheet.kind for each in all_told) / len(all_told)
    nothing_wrong = sum(each.kind == each.sheet.kind and not each.wrong for each in all_told) / len(all_told)
    names = [role for role in _ROLES if role not in (*MEASURES, *TRADE)]
    return (
        f"| {name} | {rows} | {len(all_told)} | {100 * right_kind:.0f} | {share((*MEASURES, *TRADE))} | {share(names)}"
        f" | {100 * nothing_wrong:.1f} | {1000 * median(each.seconds for each in all_told):.0f} |"
    )


def report(seed: int = 71) -> str:
    """The page."""
    lines = [
        "# Recognising columns, measured",
        "",
        (
            "What becomes of reports that were never loaded before: simulated with seeds of their own, headed in ten"
            " languages, with nine look-alike"
        ),
        "columns beside the measures, or with headings that say nothing (“Column 4”). `make truth` writes this page.",
        "",
        (
            "Of all columns meant, in per cent: taken rightly / asked with the right one among the choices / another"
            " taken / none taken."
        ),
        "",
        "| files | rows | tables | right kind | measures | names and days | nothing wrong | ms (median) |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for look_alikes in (False, True):
        for headed in (True, False):
            for rows in (5, 50, 200):
                found = [told(each) for each in sheets(seed=seed, rows=rows, look_alikes=look_alikes, headed=headed)]
                name = f"{'ten languages' if headed else 'nothing to read'}{', look-alikes' if look_alikes else ''}"
                lines.append(line(name, rows, found))
                print(lines[-1], file=sys.stderr)
                for each in found:
                    if each.wrong or each.kind != each.sheet.kind:
                        print("  ", each.sheet.name, each.kind, each.wrong, file=sys.stderr)
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    page = report()
    if "--write" in sys.argv:
        DOCUMENT.write_text(page)
    else:
        print(page)
