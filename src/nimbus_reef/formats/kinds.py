"""
The report kinds and their columns: the open file contract, as data.

docs/data-contract.md is made from it; a test holds the two together.
"""

from __future__ import annotations

from dataclasses import replace
from enum import StrEnum
from typing import Final

from nimbus_reef.core.model import (
    MEASURES,
    MONEY_MEASURES,
    Bidding,
    Format,
    MatchType,
    Placement,
    State,
    Targeting,
)
from nimbus_reef.formats.contract import CellKind, Column, Replaces, ReportKind


def _own_words(enum: type[StrEnum]) -> dict[str, str]:
    return {value.value.replace("_", " "): value.value for value in enum}


_MEASURE_WORDS: Final[dict[str, tuple[str, ...]]] = {
    "impressions": (
        "impressions", "impression", "impr", "imps", "views", "shown", "times shown", "ad views", "einblendungen", "impressionen", "sichtkontakte",
        "affichages", "impresiones", "impressioni", "visualizzazioni", "vertoningen", "weergaven", "impressies", "impressoes", "exibicoes",
        "wyswietlenia", "visningar", "exponeringar", "gosterim", "gosterimler", "goruntulenme",
    ),
    "clicks": (
        "clicks", "click", "clicked", "click count", "ad clicks", "visits from ads", "klicks", "klick", "clics", "clic", "klikken", "kliks", "cliques",
        "klikniecia", "klikniec", "tiklama", "tiklamalar", "tiklanma",
    ),
    "spend": (
        "spend", "cost", "ad spend", "costs", "total cost", "amount spent", "spent", "ad cost", "ausgaben", "kosten", "werbekosten", "werbeausgaben",
        "depenses", "depense", "cout", "couts", "gasto", "gastos", "coste", "inversion", "spesa", "costo", "costi", "uitgaven", "besteding", "custo", "custos",
        "despesa", "koszt", "koszty", "wydatki", "kostnad", "kostnader", "utgifter", "maliyet", "harcama",
    ),
    "orders": (
        "orders", "order", "purchases", "bought", "conversions", "total orders", "order count", "ad orders", "bestellungen", "bestellung", "kaufe", "auftrage",
        "konversionen", "commandes", "achats", "pedidos", "compras", "conversiones", "ordini", "acquisti", "bestellingen", "aankopen", "encomendas",
        "conversoes", "zamowienia", "zakupy", "konwersje", "ordrar", "bestallningar", "kop", "siparis", "siparisler", "satin almalar",
    ),
    "units": (
        "units", "unit", "units sold", "items sold", "quantity", "qty", "pieces", "total units", "einheiten", "stuck", "stuckzahl", "menge", "verkaufte einheiten",
        "unites", "quantite", "articles vendus", "unidades", "cantidad", "unita", "pezzi", "quantita", "eenheden", "stuks", "aantal stuks", "quantidade",
        "jednostki", "sztuki", "ilosc", "enheter", "antal enheter", "birim", "adet",
    ),
    "sales": (
        "sales", "revenue", "ad sales", "ad revenue", "total sales", "turnover", "sales value", "umsatz", "umsatze", "erlos", "erlose", "verkaufe", "ventes", "revenu",
        "chiffre d'affaires", "ventas", "ingresos", "facturacion", "vendite", "ricavi", "fatturato", "omzet", "verkopen", "vendas", "receita", "faturamento",
        "sprzedaz", "przychod", "przychody", "forsaljning", "omsattning", "intakter", "satis", "satislar", "ciro", "gelir",
    ),
}  # fmt: skip


def _measures() -> tuple[Column, ...]:
    return tuple(
        Column(
            name,
            CellKind.MONEY if name in MONEY_MEASURES else CellKind.COUNT,
            required=name != "units",
            words=_MEASURE_WORDS[name],
            summed=True,
        )
        for name in MEASURES
    )


LONGEST_NAME: Final = 512
LONGEST_TERM: Final = 1024
_LONGEST_ID: Final = 64

_DATE = Column(
    "date",
    CellKind.DATE,
    words=(
        "date",
        "day",
        "report date",
        "on",
        "datum",
        "tag",
        "fecha",
        "dia",
        "jour",
        "data",
        "giorno",
        "dag",
        "dzien",
        "tarih",
        "gun",
    ),
)
_SPAN = (
    Column("from", CellKind.DATE, False, ("from", "start date", "first day", "start", "period start", "from day",
                                       "startdatum", "von", "vom", "du", "date de debut", "fecha de inicio", "desde", "data di inizio", "dal", "data inicio", "data inicial", "de",
                                       "data rozpoczecia", "od", "startdatum van", "baslangic", "baslangic tarihi")),
    Column("to", CellKind.DATE, False, ("to", "end date", "last day", "end", "period end", "to day", "enddatum", "bis",
                                     "date de fin", "au", "fecha de fin", "hasta", "data di fine", "al", "einddatum", "tot", "data fim", "data final", "ate", "data zakonczenia",
                                     "do", "slutdatum", "till", "bitis", "bitis tarihi")),
    Column("period", CellKind.PERIOD, False, ("period", "date range", "days", "dates", "report period", "zeitraum",
                                           "période", "periodo", "periode", "okres", "zakres dat", "donem", "tarih araligi")),
)  # fmt: skip
_CAMPAIGN = Column(
    "campaign", CellKind.TEXT, longest=LONGEST_NAME,
    words=("campaign", "campaign name", "name of campaign", "kampagne", "kampagnenname", "campagne", "nom de la campagne",
           "campaña", "nombre de la campaña", "campagna", "nome della campagna", "campagnenaam", "campanha", "nome da campanha", "kampania", "nazwa kampanii",
           "kampanj", "kampanjnamn", "kampanya", "kampanya adi"),
)  # fmt: skip
_CAMPAIGN_ID = Column(
    "campaign_id",
    CellKind.TEXT,
    False,
    ("campaign id", "campaign number", "campaign no"),
    longest=_LONGEST_ID,
)
_AD_GROUP = Column(
    "ad_group", CellKind.TEXT, longest=LONGEST_NAME,
    words=("ad group", "ad group name", "adgroup", "group", "anzeigengruppe", "anzeigengruppenname",
           "groupe d'annonces", "nom du groupe d'annonces", "grupo de anuncios", "nombre del grupo de anuncios",
           "gruppo di annunci", "nome del gruppo di annunci", "advertentiegroep", "grupo de anuncios nome", "conjunto de anuncios", "grupa reklam", "annonsgrupp",
           "reklam grubu", "gruppe", "groupe", "grupo", "gruppo", "groep", "grupa", "grupp", "grup"),
)  # fmt: skip
_AD_GROUP_ID = Column(
    "ad_group_id",
    CellKind.TEXT,
    False,
    ("ad group id", "ad group number", "ad group no", "group id", "group number", "group no"),
    longest=_LONGEST_ID,
)
_AD_GROUP_OR_CAMPAIGN = replace(_AD_GROUP, blank_with=("match_type", "negative_"))
"""Of a negative: empty is the whole campaign."""
_TARGET = Column(
    "target", CellKind.TEXT, longest=LONGEST_NAME,
    words=("target", "keyword", "targeting", "keyword text", "target text", "bid on", "schlüsselwort", "ausrichtung", "mot-clé", "ciblage",
           "palabra clave", "segmentación", "parola chiave", "targetizzazione", "zoekwoord", "trefwoord", "palavra chave", "segmentacao", "slowo kluczowe",
           "kierowanie", "nyckelord", "sokord", "anahtar kelime", "hedefleme", "gebotsziel"),
)  # fmt: skip
_TARGET_ID = Column(
    "target_id",
    CellKind.TEXT,
    False,
    ("target id", "keyword id", "keyword no", "target no"),
    longest=_LONGEST_ID,
)
_MATCH_TYPE = Column(
    "match_type", CellKind.CHOICE,
    words=("match type", "match", "matching", "target type", "übereinstimmungstyp", "übereinstimmung", "keyword-option",
           "type de correspondance", "correspondance", "tipo de concordancia", "concordancia",
           "tipo di corrispondenza", "corrispondenza", "zoektype", "overeenkomst", "zoekwoordoptie", "tipo de correspondencia", "correspondencia",
           "typ dopasowania", "dopasowanie", "matchningstyp", "matchning", "eslesme turu", "eslesme", "eslesme tipi"),
    aliases={
        **_own_words(MatchType), "exact match": "exact", "phrase match": "phrase",
        "broad match": "broad", "automatic": "auto", "product": "item", "items": "item",
        "categories": "category", "neg exact": "negative_exact", "neg phrase": "negative_phrase",
        "neg item": "negative_item", "exact negative": "negative_exact", "phrase negative": "negative_phrase",
        "genau": "exact", "genau passend": "exact", "exakt": "exact", "exacte": "exact", "exacta": "exact", "esatta": "exact",
        "wortgruppe": "phrase", "passende wortgruppe": "phrase", "expression": "phrase", "frase": "phrase", "a frase": "phrase",
        "weitgehend": "broad", "weitgehend passend": "broad", "large": "broad", "amplia": "broad", "generica": "broad",
        "automatisch": "auto", "automatique": "auto", "automatica": "auto", "automática": "auto",
        "produkt": "item", "produit": "item", "producto": "item", "prodotto": "item",
        "artikel": "item", "article": "item", "artículo": "item", "articulo": "item", "articolo": "item",
        "kategorie": "category", "catégorie": "category", "categoría": "category", "categoria": "category",
        "negativ genau": "negative_exact", "negativ exakt": "negative_exact", "négatif exact": "negative_exact",
        "negativa exacta": "negative_exact", "negativa esatta": "negative_exact",
        "negativ wortgruppe": "negative_phrase", "négatif expression": "negative_phrase",
        "negativa de frase": "negative_phrase", "negativa a frase": "negative_phrase",
        "woordgroep": "phrase", "zin": "phrase", "breed": "broad", "ruim": "broad", "correspondência exata": "exact", "exata": "exact", "ampla": "broad",
        "dokładne": "exact", "dokładny": "exact", "wyrażenie": "phrase", "fraza": "phrase", "przybliżone": "broad", "szerokie": "broad", "fras": "phrase",
        "bred": "broad", "exakt matchning": "exact", "tam eşleme": "exact", "tam": "exact", "kelime öbeği": "phrase", "sıralı": "phrase", "geniş": "broad",
        "produto": "item", "produkten": "item", "ürün": "item", "categorie": "category", "kategoria": "category", "kategori": "category",
        "automático": "auto", "automático a": "auto", "automatyczne": "auto", "otomatik": "auto",
    },
)  # fmt: skip
_STATE = Column(
    "state", CellKind.CHOICE, words=("state", "status", "zustand", "état", "statut", "estado", "stato"),
    aliases={
        **_own_words(State), "active": "enabled", "on": "enabled", "running": "enabled",
        "live": "enabled", "inactive": "paused", "off": "paused", "stopped": "paused",
        "ended": "archived", "deleted": "archived", "aktiv": "enabled", "aktiviert": "enabled",
        "actif": "enabled", "activée": "enabled", "activo": "enabled", "activa": "enabled", "habilitada": "enabled",
        "attivo": "enabled", "attiva": "enabled", "abilitata": "enabled", "pausiert": "paused", "en pause": "paused",
        "suspendue": "paused", "pausada": "paused", "en pausa": "paused", "in pausa": "paused",
        "archiviert": "archived", "archivée": "archived", "archivada": "archived", "archiviata": "archived",
        "actief": "enabled", "ingeschakeld": "enabled", "gepauzeerd": "paused", "gearchiveerd": "archived", "ativo": "enabled", "ativa": "enabled",
        "ativada": "enabled", "pausado": "paused", "arquivada": "archived", "arquivado": "archived", "aktywna": "enabled", "aktywny": "enabled",
        "włączona": "enabled", "wstrzymana": "paused", "wstrzymany": "paused", "zarchiwizowana": "archived", "aktiverad": "enabled", "pausad": "paused",
        "arkiverad": "archived", "etkin": "enabled", "duraklatıldı": "paused", "duraklatılmış": "paused", "arşivlendi": "archived",
    },
)  # fmt: skip
_STATE = replace(_STATE, assumed=State.ENABLED.value)
_OPTIONAL_STATE = Column("state", CellKind.CHOICE, False, _STATE.words, _STATE.aliases)
_SKU = Column(
    "sku",
    CellKind.TEXT,
    longest=LONGEST_NAME,
    words=(
        "sku",
        "product",
        "article",
        "product code",
        "article number",
        "artikel",
        "artikelnummer",
        "produkt",
        "produit",
        "producto",
        "prodotto",
        "produto",
        "reference",
        "referencia",
        "codice articolo",
        "numer artykulu",
        "artikelnr",
        "urun",
        "urun kodu",
    ),
)
_WHOSE_OFFER = {"own": "own", "mine": "own", "ours": "own", "yes": "own", "other": "other", "no": "other"}
_YES_NO = {
    "yes": "yes",
    "no": "no",
    "true": "yes",
    "false": "no",
    "y": "yes",
    "n": "no",
    "1": "yes",
    "0": "no",
    "ja": "yes",
    "nein": "no",
    "oui": "yes",
    "non": "no",
    "sí": "yes",
    "si": "yes",
    "sì": "yes",
    "vrai": "yes",
    "faux": "no",
    "wahr": "yes",
    "falsch": "no",
}


_ACCOUNT = Column("account", CellKind.TEXT, False, ("account", "account name", "brand account"))
_OPTIONAL_SKU = Column("sku", CellKind.TEXT, False, _SKU.words, longest=LONGEST_NAME)
_ITEM = Column(
    "item_id", CellKind.TEXT, longest=_LONGEST_ID, words=("item id", "item", "listing id", "item number")
)
_TITLE = Column(
    "title", CellKind.TEXT, longest=1024, words=("title", "product title", "product name", "name")
)
_CATEGORY = Column("category", CellKind.TEXT, False, ("category", "product category"))
_COUNTRY = Column("country", CellKind.TEXT, longest=8, words=("country", "country code", "market"))
_FORMAT_WORDS = {
    **_own_words(Format), "product ads": "product", "brand ads": "brand", "display ads": "display",
    "produkt": "product", "produit": "product", "producto": "product", "prodotto": "product",
    "marke": "brand", "marque": "brand", "marca": "brand", "anzeige": "display", "bannière": "display",
}  # fmt: skip
_PEER_FORMAT = Column(
    "format", CellKind.CHOICE, words=("format", "ad format"), aliases={**_FORMAT_WORDS, "all": "all"}
)
_PLACEMENT = Column(
    "placement", CellKind.CHOICE,
    words=("placement", "where shown", "ad placement", "platzierung", "emplacement", "ubicación", "posizionamento", "plaatsing", "posicionamento",
           "miejsce docelowe", "umiejscowienie", "placering", "yerlesim"),
    aliases={
        **_own_words(Placement), "top": "top_of_search", "rest of search": "elsewhere_in_search",
        "other in search": "elsewhere_in_search", "product pages": "product_page",
        "outside": "off_site", "off marketplace": "off_site", "oben in der suche": "top_of_search",
        "übrige suche": "elsewhere_in_search", "produktseite": "product_page", "produktseiten": "product_page",
        "außerhalb": "off_site", "haut de la recherche": "top_of_search",
        "reste de la recherche": "elsewhere_in_search", "page produit": "product_page",
        "pages produit": "product_page", "hors site": "off_site", "parte superior de la búsqueda": "top_of_search",
        "resto de la búsqueda": "elsewhere_in_search", "página de producto": "product_page",
        "páginas de producto": "product_page", "fuera del sitio": "off_site",
        "parte superiore della ricerca": "top_of_search", "resto della ricerca": "elsewhere_in_search",
        "pagina prodotto": "product_page", "pagine prodotto": "product_page", "fuori dal sito": "off_site",
        "boven in zoekresultaten": "top_of_search", "bovenaan zoekresultaten": "top_of_search", "overige zoekresultaten": "elsewhere_in_search",
        "rest van zoekresultaten": "elsewhere_in_search", "productpagina": "product_page", "productpagina s": "product_page", "buiten de site": "off_site",
        "topo da pesquisa": "top_of_search", "resto da pesquisa": "elsewhere_in_search", "página do produto": "product_page",
        "páginas do produto": "product_page", "fora do site": "off_site", "góra wyników wyszukiwania": "top_of_search",
        "pozostałe wyniki wyszukiwania": "elsewhere_in_search", "strona produktu": "product_page", "strony produktów": "product_page",
        "poza witryną": "off_site", "överst i sökresultaten": "top_of_search", "övriga sökresultat": "elsewhere_in_search",
        "produktsida": "product_page", "produktsidor": "product_page", "utanför webbplatsen": "off_site", "aramanın üst kısmı": "top_of_search",
        "aramanın geri kalanı": "elsewhere_in_search", "ürün sayfası": "product_page", "ürün sayfaları": "product_page", "site dışı": "off_site",
    },
)  # fmt: skip
PEER_METRICS: Final = ("ctr", "cvr", "cpc", "acos", "aov", "cart_rate", "purchase_rate")
QUANTILES: Final = ("p05", "p10", "p20", "p30", "p40", "p50", "p60", "p70", "p80", "p90", "p95")


def _count(name: str, *words: str, required: bool = True, summed: bool = False) -> Column:
    return Column(name, CellKind.COUNT, required, words, summed=summed)


def _hour(name: str, *words: str, most: int = 23) -> Column:
    return Column(name, CellKind.HOUR, words=words, most=most)


def _adjustment(place: str) -> Column:
    words = place.replace("_", " ")
    return Column(f"adj_{place}", CellKind.PERCENT, False, (f"adj {words}", f"{words} adjustment"))


_HOUR_WORDS: Final = (
    "hour", "hour of day", "time", "stunde", "uhrzeit", "heure", "hora", "ora", "uur", "godzina", "timme", "saat",
)  # fmt: skip
_KINDS: Final = (
    ReportKind(
        "campaigns", "Campaigns", "a campaign's settings on a day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID,
            Column("portfolio", CellKind.TEXT, False, ("portfolio", "portfolio name")),
            Column(
                "format", CellKind.CHOICE,
                words=("format", "ad format", "ad type", "campaign type", "anzeigenformat", "kampagnentyp",
                       "type de campagne", "tipo de campaña", "tipo di campagna"),
                aliases=_FORMAT_WORDS,
            ),
            Column(
                "targeting", CellKind.CHOICE, words=("targeting", "targeting type"),
                aliases={**_own_words(Targeting), "automatic": "auto", "automatisch": "auto", "manuell": "manual",
                         "automatique": "auto", "manuel": "manual", "automática": "auto", "automatica": "auto",
                         "manuale": "manual"},
            ),
            _STATE,
            Column("daily_budget", CellKind.MONEY, words=("daily budget", "budget", "budget per day", "tagesbudget",
                   "budget quotidien", "presupuesto diario", "budget giornaliero")),
            Column(
                "bidding", CellKind.CHOICE, False, ("bidding", "bidding strategy", "bid strategy"),
                {**_own_words(Bidding), "fixed bids": "fixed", "down": "down_only",
                 "up down": "up_and_down"},
            ),
            _adjustment("top_of_search"), _adjustment("product_page"), _adjustment("elsewhere"),
            Column("offsite_limited", CellKind.CHOICE, False, ("offsite limited",), _YES_NO),
            Column("start_date", CellKind.DATE, False, ("start date", "started", "start")),
        ),
        ("campaign",),
    ),
    ReportKind(
        "targets", "Targets", "a target's settings on a day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP_OR_CAMPAIGN, _AD_GROUP_ID, _TARGET, _TARGET_ID,
            _MATCH_TYPE, _STATE,
            Column("bid", CellKind.MONEY, False, ("bid", "max bid", "keyword bid", "current bid", "gebot", "max gebot",
                   "maximales gebot", "enchère", "enchère max", "puja", "puja máxima", "offerta", "offerta massima")),
            Column("ad_group_bid", CellKind.MONEY, False, ("ad group bid", "default bid")),
        ),
        ("campaign", "ad_group", "target", "match_type"),
    ),
    ReportKind(
        "target_daily", "Targets by day", "target × day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _TARGET, _TARGET_ID,
            _MATCH_TYPE, *_measures(),
            Column("top_of_search_share", CellKind.SHARE, False,
                   ("top of search share", "top of search impression share")),
        ),
        ("campaign", "ad_group", "target", "match_type"),
    ),
    ReportKind(
        "search_term_daily", "Search terms by day", "term × target × day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _TARGET, _TARGET_ID,
            _MATCH_TYPE,
            Column("search_term", CellKind.TEXT, longest=LONGEST_TERM, words=(
                "search term", "search query", "query", "searched", "shopper searched",
                "customer search", "search phrase", "typed", "shoppers typed", "suchbegriff", "suchanfrage", "terme de recherche", "requete", "término de búsqueda",
                "busqueda", "termine di ricerca", "ricerca", "zoekterm", "zoekopdracht", "termo de pesquisa", "termo de busca", "pesquisa", "wyszukiwane haslo",
                "fraza", "zapytanie", "sokterm", "sokfras", "arama terimi", "arama")),
            *_measures(),
            Column("impression_share", CellKind.SHARE, False, ("impression share",)),
            Column("impression_rank", CellKind.RANK, False, ("impression rank", "rank")),
        ),
        ("campaign", "ad_group", "target", "match_type", "search_term"),
    ),
    ReportKind(
        "product_ad_daily", "Product ads by day", "SKU in ad group × day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _SKU, _OPTIONAL_STATE,
            *_measures(),
        ),
        ("campaign", "ad_group", "sku"),
    ),
    ReportKind(
        "catalog", "Catalog", "a product",
        (
            _SKU,
            _ITEM,
            Column("parent_item_id", CellKind.TEXT, False, ("parent item id", "parent", "family"), longest=_LONGEST_ID),
            _TITLE,
            Column("brand", CellKind.TEXT, False, ("brand", "brand name", "maker")),
            _CATEGORY,
            Column("launch_date", CellKind.DATE, False, ("launch date", "launched", "first available")),
            Column("price", CellKind.MONEY, False, ("price", "selling price", "list price")),
            Column("margin", CellKind.PERCENT, False, ("margin", "margin before ads", "margin percent")),
            Column("fulfilment", CellKind.CHOICE, False, ("fulfilment", "shipped by", "fulfilled by"),
                   {"marketplace": "marketplace", "merchant": "merchant", "own": "merchant"}),
            Column("ad_eligible", CellKind.CHOICE, False, ("ad eligible", "eligible", "may advertise"),
                   _YES_NO),
            Column("ineligible_reason", CellKind.TEXT, False, ("ineligible reason", "reason")),
        ),
        ("sku",),
        replaces=Replaces.KEYS,
    ),
    ReportKind(
        "campaign_daily", "Campaigns by day", "campaign × day",
        (_DATE, _CAMPAIGN, _CAMPAIGN_ID, *_measures()),
        ("campaign",),
    ),
    ReportKind(
        "ad_groups", "Ad groups", "an ad group's settings on a day",
        (
            _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _STATE,
            Column("default_bid", CellKind.MONEY, words=("default bid", "ad group bid", "bid")),
        ),
        ("campaign", "ad_group"),
    ),
    ReportKind(
        "product_ads", "Product ads", "a product inside an ad group, settings on a day",
        (_DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _SKU, _STATE),
        ("campaign", "ad_group", "sku"),
    ),
    ReportKind(
        "placement_daily", "Placements by day", "placement × campaign × day",
        (_DATE, _CAMPAIGN, _CAMPAIGN_ID, _PLACEMENT, *_measures()),
        ("campaign", "placement"),
    ),
    ReportKind(
        "hourly", "Hours", "campaign × day × hour",
        (
            _DATE, _hour("hour", *_HOUR_WORDS), _CAMPAIGN, _CAMPAIGN_ID, *_measures(),
            Column("in_budget_minutes", CellKind.COUNT, False,
                   ("in budget minutes", "minutes in budget"), most=60),
        ),
        ("campaign", "hour"),
    ),
    ReportKind(
        "boosts", "Boosts", "a scheduled raise in force",
        (
            Column("name", CellKind.TEXT, words=("name", "rule", "boost", "boost name")),
            _CAMPAIGN, _CAMPAIGN_ID,
            Column("what", CellKind.CHOICE, words=("what", "raises", "kind"),
                   aliases={"budget": "budget", "bid": "bid", "bids": "bid", "budgets": "budget"}),
            Column("from", CellKind.DATE, words=("from", "start", "first day")),
            Column("to", CellKind.DATE, words=("to", "end", "last day")),
            Column("weekdays", CellKind.TEXT, False, ("weekdays", "days of week"), longest=16),
            _hour("from_hour", "from hour", "start hour"),
            _hour("to_hour", "to hour", "end hour", most=24),
            Column("percent", CellKind.PERCENT, words=("percent", "raise", "raise by")),
            Column("condition", CellKind.TEXT, False, ("condition", "while")),
        ),
        ("name", "campaign", "what"),
        replaces=Replaces.KEYS,
    ),
    ReportKind(
        "product_sales_daily", "Product sales by day", "product × day, all trade",
        (
            _DATE, _SKU,
            _count("sessions", "sessions", "visits", "page visits", "visitors", "sitzungen", "besuche", "visites", "sesiones", "visitas", "sessioni", "visite",
                   "sessies", "bezoeken", "sessoes", "sesje", "wizyty", "sessioner", "besok", "oturum", "ziyaret", summed=True),
            _count("total_orders", "all orders", *_MEASURE_WORDS["orders"], summed=True),
            _count("total_units", "all units", "units ordered", *_MEASURE_WORDS["units"], summed=True),
            Column("total_sales", CellKind.MONEY, words=("all sales", *_MEASURE_WORDS["sales"]), summed=True),
        ),
        ("sku",),
    ),
    ReportKind(
        "sales_hourly", "Sales by hour", "the account × hour, all trade",
        (
            _DATE, _hour("hour", *_HOUR_WORDS),
            _count("total_orders", "all orders", *_MEASURE_WORDS["orders"], summed=True),
            Column("total_sales", CellKind.MONEY, words=("all sales", *_MEASURE_WORDS["sales"]), summed=True),
        ),
        ("hour",),
    ),
    ReportKind(
        "peer_benchmarks", "Peer benchmarks", "month × category × country × format × metric",
        (
            Column("month", CellKind.MONTH, words=("month", "period")),
            Column("category", CellKind.TEXT, words=_CATEGORY.words), _COUNTRY, _PEER_FORMAT,
            Column("metric", CellKind.CHOICE, words=("metric", "measure", "ratio"),
                   aliases={name.replace("_", " "): name for name in PEER_METRICS}),
            _count("brands", "brands", "peers", "number of brands"),
            *(Column(name, CellKind.NUMBER, words=(name, f"{int(name[1:])} th percentile"))
              for name in QUANTILES),
        ),
        ("category", "country", "format", "metric"),
    ),
    ReportKind(
        "peer_format_mix", "Peer format mix", "month × category × country × format",
        (
            Column("month", CellKind.MONTH, words=("month", "period")),
            Column("category", CellKind.TEXT, words=_CATEGORY.words), _COUNTRY,
            Column("format", CellKind.CHOICE, words=_PEER_FORMAT.words, aliases=_FORMAT_WORDS),
            Column("campaign_share", CellKind.SHARE, words=("campaign share", "share of campaigns")),
            Column("spend_share", CellKind.SHARE, words=("spend share", "share of spend")),
        ),
        ("category", "country", "format"),
    ),
    ReportKind(
        "query_funnel", "Query funnel", "week × search query, in all or for one SKU",
        (
            Column("week", CellKind.WEEK, words=("week", "week starting", "week of")),
            Column("query", CellKind.TEXT, longest=LONGEST_TERM, words=("query", "search query")), _OPTIONAL_SKU,
            _count("search_volume", "search volume", "searches", "volume"),
            *(
                _count(f"{who}_{stage}", f"{who} {stage}".replace("_", " "), f"{other} {stage}",
                       summed=True)
                for who, other in (("market", "total"), ("own", "brand"))
                for stage in ("impressions", "clicks", "cart_adds", "purchases")
            ),
        ),
        ("query", "sku"),
    ),
    ReportKind(
        "keyword_ranks", "Keyword ranks", "keyword × item × day",
        (
            _DATE, Column("keyword", CellKind.TEXT, longest=LONGEST_TERM, words=("keyword", "phrase", "search phrase")),
            _count("search_volume", "search volume", "searches", "volume"),
            _CATEGORY, _ITEM,
            Column("brand", CellKind.TEXT, False, ("brand", "brand name", "maker")),
            Column("organic_rank", CellKind.RANK, False, ("organic rank", "natural rank")),
            Column("sponsored_rank", CellKind.RANK, False, ("sponsored rank", "ad rank", "paid rank")),
        ),
        ("keyword", "item_id"),
    ),
    ReportKind(
        "rivals", "Rivals", "another brand's item",
        (
            _ITEM, Column("brand", CellKind.TEXT, words=("brand", "brand name", "maker")), _TITLE, _CATEGORY,
            Column("launch_date", CellKind.DATE, False, ("launch date", "launched", "first available")),
            Column("price", CellKind.MONEY, False, ("price", "selling price")),
            Column("rating", CellKind.NUMBER, False, ("rating", "average rating"), most=5),
            _count("reviews", "reviews", "review count", "number of reviews", required=False),
            Column("monthly_sales_estimate", CellKind.MONEY, False,
                   ("monthly sales estimate", "monthly sales", "estimated sales")),
        ),
        ("item_id",),
        replaces=Replaces.KEYS,
    ),
    ReportKind(
        "events", "Sale events", "a sale event",
        (
            Column("name", CellKind.TEXT, words=("name", "event", "event name")),
            Column("from", CellKind.DATE, words=("from", "start", "first day")),
            Column("to", CellKind.DATE, words=("to", "end", "last day")),
            Column("country", CellKind.TEXT, False, _COUNTRY.words, longest=8),
        ),
        ("name",),
        replaces=Replaces.KEYS,
    ),
    ReportKind(
        "listings", "Listings", "a product page on a day",
        (
            _DATE, _SKU, _TITLE,
            _count("bullets", "bullets", "bullet points", "bullet count"),
            _count("images", "images", "pictures", "image count"),
            Column("rich_content", CellKind.CHOICE, words=("rich content",), aliases=_YES_NO),
            Column("brand_section", CellKind.CHOICE, words=("brand section", "section on the brand"), aliases=_YES_NO),
            Column("rating", CellKind.NUMBER, False, ("rating", "average rating"), most=5),
            _count("reviews", "reviews", "review count", "number of reviews", required=False),
            Column("price", CellKind.MONEY, False, ("price", "selling price")),
            Column("in_stock", CellKind.CHOICE, words=("in stock", "stock", "available"), aliases=_YES_NO),
            Column("main_offer", CellKind.CHOICE, False, ("main offer", "offer shown"), _WHOSE_OFFER),
        ),
        ("sku",),
    ),
    ReportKind(
        "changes", "Changes", "a change somebody made",
        (
            Column("at", CellKind.TIME, words=("at", "time", "changed at", "timestamp", "when")),
            _CAMPAIGN, _CAMPAIGN_ID,
            Column("ad_group", CellKind.TEXT, False, _AD_GROUP.words, longest=LONGEST_NAME), _AD_GROUP_ID,
            Column("target", CellKind.TEXT, False, _TARGET.words, longest=LONGEST_NAME),
            Column("match_type", CellKind.CHOICE, False, _MATCH_TYPE.words, _MATCH_TYPE.aliases),
            _OPTIONAL_SKU,
            Column("field", CellKind.TEXT, longest=32, words=("field", "what", "setting", "changed field")),
            Column("old", CellKind.TEXT, False, ("old", "old value", "before"), anything=True),
            Column("new", CellKind.TEXT, False, ("new", "new value", "after"), anything=True),
            Column("by", CellKind.TEXT, False, ("by", "changed by", "who")),
        ),
        ("at", "campaign", "ad_group", "target", "match_type", "sku", "field"),
        replaces=Replaces.KEYS,
    ),
)  # fmt: skip


def _whole(kind: ReportKind) -> ReportKind:
    span = _SPAN if kind.takes_blocks else ()
    return replace(kind, columns=(*kind.columns, *span, _ACCOUNT))


KINDS: Final[dict[str, ReportKind]] = {each.name: _whole(each) for each in _KINDS}
"""
Every kind by name. Each may carry `account`: one file may hold the rows of several. Those that
count by day may tell their days as a span instead.
"""
PLACEMENT_ADJUSTMENTS: Final = ReportKind(
    "placement_adjustments", "Placement adjustments", "what a campaign adds to its bids at a placement",
    (
        _DATE, _CAMPAIGN, _CAMPAIGN_ID, _PLACEMENT,
        Column("adjustment", CellKind.PERCENT, words=("adjustment", "percentage", "percent", "bid adjustment", "raise")),
        _ACCOUNT,
    ),
    ("campaign", "placement"),
)  # fmt: skip
"""Rows of a mixed sheet that are not a report of their own: they become columns of their campaigns' settings."""
READ_KINDS: Final[dict[str, ReportKind]] = {**KINDS, PLACEMENT_ADJUSTMENTS.name: PLACEMENT_ADJUSTMENTS}
"""Every way in which rows may be read."""


def kind(name: str) -> ReportKind:
    """A report kind by name; a KeyError is a mistake of the caller."""
    return KINDS[name]
