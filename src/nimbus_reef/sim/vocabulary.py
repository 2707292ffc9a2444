"""The made-up brands: what they sell and how shoppers ask for it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Variant:
    """One product of a family."""

    name: str
    price: float


@dataclass(frozen=True, slots=True)
class ProductFamily:
    """Products sold as one, in sizes or colours. code starts their SKUs."""

    name: str
    code: str
    variants: tuple[Variant, ...]


@dataclass(frozen=True, slots=True)
class Category:
    """
    A shelf of the marketplace and the words shoppers use before it.

    before / after: words put around a head. astray: words of shoppers who want
    something else. cvr, ctr: what is usual on this shelf.
    """

    name: str
    heads: tuple[str, ...]
    before: tuple[str, ...]
    after: tuple[str, ...]
    astray: tuple[str, ...]
    cvr: float
    ctr: float
    families: tuple[ProductFamily, ...]


@dataclass(frozen=True, slots=True)
class BrandSpec:
    """A brand on one marketplace in one country. rivals: brands that sell beside it."""

    key: str
    name: str
    marketplace: str
    country: str
    currency: str
    locale: str
    timezone: str
    target_acos: float
    categories: tuple[Category, ...]
    rivals: tuple[str, ...]


def _family(name: str, code: str, **prices: float) -> ProductFamily:
    variants = (Variant(key.strip("_").replace("_", " "), price) for key, price in prices.items())
    return ProductFamily(name, code, tuple(variants))


FERNHOLLOW = BrandSpec(
    key="fernhollow-de",
    name="Fernhollow",
    marketplace="Tidemarkt",
    country="DE",
    currency="EUR",
    locale="en_IE",
    timezone="Europe/Berlin",
    target_acos=0.28,
    categories=(
        Category(
            "Grow lights",
            heads=("grow light", "plant lamp", "led grow light", "grow lamp", "plant light"),
            before=("full spectrum", "dimmable", "small", "clip on", "hanging", "white", "slim"),
            after=(
                "for indoor plants",
                "with timer",
                "for seedlings",
                "with stand",
                "for herbs",
                "for succulents",
                "strip",
                "panel",
                "for shelf",
            ),
            astray=("aquarium", "reptile", "replacement ballast", "wallpaper", "diy plans", "second hand"),
            cvr=0.085,
            ctr=0.0046,
            families=(
                _family("Strip light", "GL-STRIP", _30_cm=21.9, _60_cm=32.9, _90_cm=44.9),
                _family("Panel lamp", "GL-PANEL", _25_W=39.9, _45_W=59.9),
                _family("Grow bulb", "GL-BULB", E27=15.9, E27_pair=27.9),
                _family("Clip lamp", "GL-CLIP", single=24.9, double=34.9),
            ),
        ),
        Category(
            "Self-watering planters",
            heads=("self watering planter", "self watering pot", "planter pot", "plant pot"),
            before=("large", "small", "indoor", "hanging", "white", "slate", "moss green", "tall"),
            after=("with reservoir", "for herbs", "for windowsill", "with insert", "set of 3", "for orchids"),
            astray=("liner fabric", "free pattern", "concrete mould", "funeral", "repair kit"),
            cvr=0.105,
            ctr=0.0052,
            families=(
                _family("Planter 20 cm", "SW-20", slate=18.9, moss=18.9, sand=18.9),
                _family("Planter 30 cm", "SW-30", slate=34.9, moss=34.9),
                _family("Planter insert", "SW-INS", small=9.9, large=13.9),
            ),
        ),
        Category(
            "Moisture meters",
            heads=("moisture meter", "soil moisture meter", "plant water meter", "hygrometer for plants"),
            before=("digital", "analogue", "wooden", "long probe", "accurate"),
            after=("for houseplants", "without battery", "for bonsai", "3 in 1", "for raised bed"),
            astray=("wall damp", "firewood", "grain", "concrete", "manual pdf"),
            cvr=0.12,
            ctr=0.0048,
            families=(
                _family("Moisture meter", "MM-STICK", single=14.9, set_of_3=34.9),
                _family("Digital meter", "MM-DIGI", standard=24.9),
            ),
        ),
        Category(
            "Seed trays",
            heads=("seed tray", "propagation station", "seedling tray", "germination tray"),
            before=("heated", "reusable", "mini", "wooden", "glass"),
            after=("with lid", "with light", "12 cells", "for windowsill", "with heat mat"),
            astray=("bird feeder", "ice cube", "jewellery", "gif"),
            cvr=0.09,
            ctr=0.0042,
            families=(
                _family("Seed tray", "ST-TRAY", _12_cells=16.9, _24_cells=23.9),
                _family("Station", "ST-GLASS", walnut=29.9, oak=29.9),
            ),
        ),
        Category(
            "Plant stands",
            heads=("plant stand", "plant shelf", "flower stand"),
            before=("wooden", "metal", "corner", "tall", "bamboo", "black"),
            after=("indoor", "3 tier", "for balcony", "with light", "on wheels"),
            astray=("christmas tree", "aquarium", "blueprint", "microphone"),
            cvr=0.055,
            ctr=0.0036,
            families=(_family("Plant stand", "PS-STAND", oak=69.9, black=64.9),),
        ),
    ),
    rivals=("Brackenloft", "Umbrelane", "Wickelgrun", "Tolvane", "Hesperwood", "Quillmoss", "Dunfrond", "Ostravale"),
)

PELLWICK = BrandSpec(
    key="pellwick-gb",
    name="Pellwick",
    marketplace="Tidemarkt",
    country="GB",
    currency="GBP",
    locale="en_GB",
    timezone="Europe/London",
    target_acos=0.25,
    categories=(
        Category(
            "Proofing bowls",
            heads=("proofing basket", "banneton", "proving basket", "proofing bowl", "bread basket"),
            before=("round", "oval", "large", "small", "rattan", "silicone"),
            after=("with liner", "set", "for sourdough", "25 cm", "for beginners", "gift"),
            astray=("picnic", "laundry", "hamper empty", "crochet", "pet bed"),
            cvr=0.11,
            ctr=0.0055,
            families=(
                _family("Round basket", "PB-ROUND", _22_cm=17.9, _25_cm=21.9),
                _family("Oval basket", "PB-OVAL", _25_cm=19.9, _30_cm=24.9),
                _family("Starter set", "PB-SET", linen=36.9, complete=49.9),
            ),
        ),
        Category(
            "Scoring blades",
            heads=("bread lame", "scoring blade", "dough scorer", "bread scoring tool"),
            before=("wooden", "magnetic", "professional", "walnut"),
            after=("with cover", "with 10 blades", "for sourdough", "kit"),
            astray=("razor shaving", "cardboard", "lyrics", "craft vinyl"),
            cvr=0.095,
            ctr=0.005,
            families=(_family("Lame", "SB-LAME", walnut=12.9, steel=11.9),),
        ),
        Category(
            "Loaf tins",
            heads=("loaf tin", "bread tin", "baking tin", "loaf pan"),
            before=("2lb", "1lb", "non stick", "carbon steel", "deep", "lidded"),
            after=("with lid", "set of 2", "for sandwich bread", "for banana bread", "long"),
            astray=("vintage sign", "tin can opener", "toy", "paint roller"),
            cvr=0.1,
            ctr=0.0044,
            families=(
                _family("Loaf tin", "LT-TIN", _1_lb=11.9, _2_lb=14.9, pair=24.9),
                _family("Lidded tin", "LT-LID", _2_lb=22.9),
            ),
        ),
        Category(
            "Flour bins",
            heads=("flour bin", "flour container", "flour storage", "bread bin"),
            before=("large", "airtight", "enamel", "wooden lid", "cream"),
            after=("5kg", "with scoop", "for kitchen", "10kg", "set"),
            astray=("wheelie", "compost", "pedal", "cat litter"),
            cvr=0.07,
            ctr=0.004,
            families=(
                _family("Flour bin", "FB-BIN", _5_kg=29.9, _10_kg=39.9),
                _family("Bread bin", "FB-BREAD", cream=34.9, sage=34.9),
            ),
        ),
    ),
    rivals=("Crumbledon", "Ovenreach", "Tarrowmill", "Huskenham", "Floursby", "Knoxbarm", "Bannerloaf", "Yeldrake"),
)

BRANDS = (FERNHOLLOW, PELLWICK)
