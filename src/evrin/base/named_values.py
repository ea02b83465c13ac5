"""`Row`: named values, as a row of a table or an object of JSON has them."""

from typing import Any

# The type of a value follows from its name, which an annotation cannot express.
Row = dict[str, Any]
