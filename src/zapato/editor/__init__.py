"""The language server: what the check knows, at the cursor. It holds no rule of its own; `zapato.editing` and the checks do.

Speaks the Language Server Protocol 3.17 over standard input and output; needs the extra `editor`.
"""

from zapato.editor.desk import Desk
from zapato.editor.server import serve

__all__ = ["Desk", "serve"]
