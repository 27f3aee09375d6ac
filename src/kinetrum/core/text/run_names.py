"""Names for runs that nobody named: two words of our own list, easy to say and to remember.

A name follows from the run's id, so that a run that is begun again has the same. Names need not be unique: a run is
told apart by its number and its id.
"""

from __future__ import annotations

_FIRST_WORDS = (
    "amber apple arbor aster autumn barley basil beech birch bloom bramble breeze briar brook cedar cherry "
    "chestnut cider cinder clay clover copper coral cotton crystal dawn dew dune dusk ember fern field flint foam "
    "forest frost garden ginger glacier granite harvest hazel heather hollow honey indigo iris ivory ivy jasmine "
    "juniper kelp lagoon larch laurel lavender lemon lichen lilac linden lotus maple marble marsh meadow mint "
    "misty moss mulberry nectar oak ocean olive opal orchard pearl pepper pine plum pollen poplar prairie quartz "
    "quince rain reed ridge river rose rowan ruby rye saffron sage sand sierra silver slate snow sorrel spruce "
    "summer sunset thistle timber topaz tulip tundra valley velvet violet walnut willow winter"
)
_SECOND_WORDS = (
    "abacus anchor anvil arch arrow atlas axle balcony ballad banner barge basket beacon bell bench bottle bridge "
    "brush bucket button cabin candle canoe canvas carpet castle chapel chimney chord circle clock cloak coach "
    "column compass cottage cradle crown cup curtain dial door drum easel engine feather fiddle flute fountain "
    "frame gable gallery gate globe glove guitar hammer harbour harp hinge horn house jar kettle key kite ladder "
    "lamp lantern latch ledger lens letter loom lute magnet mallet map market mask mast mill mirror needle "
    "notebook oar organ oven paddle page parasol path pencil pier pillar pipe pitcher plough pocket prism pulley "
    "quill quilt rafter ribbon ring rope rudder saddle sail scale scarf shelf shuttle sleigh spindle spire spool "
    "stair stove table thimble thread tile torch tower trellis trumpet tunnel umbrella vase wagon wharf wheel "
    "whistle window"
)
_FIRST, _SECOND = _FIRST_WORDS.split(), _SECOND_WORDS.split()


def generate_run_name(uid: bytes) -> str:
    """Return the name of a run without one, of the 16 bytes of its id: two words, such as `willow-lantern`."""
    # Of an id that begins with a time the last bytes are random.
    first, second = int.from_bytes(uid[-4:-2], "big"), int.from_bytes(uid[-2:], "big")
    return f"{_FIRST[first % len(_FIRST)]}-{_SECOND[second % len(_SECOND)]}"
