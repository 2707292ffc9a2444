"""Tables taken out as files."""
