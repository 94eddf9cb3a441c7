"""Equipment types and typical data, free of manufacturers."""

from ._line_types import LINE_TYPES, LineType, typical_line_type
from ._typical import standard_rating, typical_transformer

__all__ = ["LINE_TYPES", "LineType", "standard_rating", "typical_line_type", "typical_transformer"]
