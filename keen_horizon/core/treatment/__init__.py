"""The treatment: every setting of every station for one clip.

``model`` makes the tree from the stations; ``files`` reads and changes it; ``explain`` says what is
wrong with one; ``upgrade`` opens older ones; ``copies`` carries stations over to other clips;
``merge`` puts together what two people changed; ``digest`` says what a piece of work depends on;
``schema`` publishes it.
"""

from .copies import with_stations
from .digest import digest
from .explain import allowed
from .files import parse, read, with_settings
from .merge import changed_labels, merged
from .model import SettingKey, Treatment
from .schema import schema

__all__ = [
    "SettingKey",
    "Treatment",
    "allowed",
    "changed_labels",
    "digest",
    "merged",
    "parse",
    "read",
    "schema",
    "with_settings",
    "with_stations",
]
