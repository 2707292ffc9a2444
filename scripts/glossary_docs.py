"""Writes docs/glossary.md from the one glossary."""

from pathlib import Path

from nimbus_reef.core import glossary

lines = ["# Glossary", "", "Written by `make docs` from `core/glossary.py`.", ""]
for group, terms in glossary.groups().items():
    lines += [f"## {group.capitalize()}", "", "| word | meaning | formula | unit |", "|---|---|---|---|"]
    lines += [f"| {each.name} | {each.definition} | {each.formula} | {each.unit} |" for each in terms]
    lines.append("")
Path("docs/glossary.md").write_text("\n".join(lines))
