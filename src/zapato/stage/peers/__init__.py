"""Who may be at the other end of a serial line, one module each, with a class `Peer` made with the line and what the part says."""
