"""All kinds of work: the one list of them."""

from __future__ import annotations

from ..core.errors import KeenError
from .charts import CHART
from .checking import CHECK
from .exact import EXACT, EXACT_LOOP
from .exporting import EXPORT
from .frame_cache import LOOK
from .glass import GLASS
from .ingest import INGEST
from .kind import JobKind
from .measuring import MEASURE
from .solving import PRICE, SOLVE
from .take import TAKE

KINDS = {
    kind.name: kind
    for kind in (
        INGEST,
        TAKE,
        MEASURE,
        SOLVE,
        PRICE,
        LOOK,
        EXACT,
        EXACT_LOOP,
        CHART,
        GLASS,
        CHECK,
        EXPORT,
    )
}


def kind_of(name: str) -> JobKind:
    """Raises KeenError for a kind that is not known."""
    if name not in KINDS:
        raise KeenError(
            f"there is no work of the kind '{name}'.", remedy="Was it asked for by a newer version?"
        )
    return KINDS[name]
