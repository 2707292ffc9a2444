"""Tables for programs: by the addresses that the pages export them by, for whoever shows a personal token."""
