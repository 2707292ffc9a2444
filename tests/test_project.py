"""The project as a whole: layers hold, documents are true, locks name no address."""

import ast
import importlib
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def run(*command):
    return subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)


def test_imports_run_downward_only():
    """The contracts of pyproject.toml, all kept."""
    done = run(str(Path(sys.executable).parent / "lint-imports"), "--no-logo")
    assert done.returncode == 0, done.stdout


def test_built_assets_belong_to_their_sources():
    done = run(sys.executable, "scripts/assets.py", "--check")
    assert done.returncode == 0, done.stdout


@pytest.mark.parametrize("script", ["settings_docs", "contract_docs", "glossary_docs"])
def test_documents_made_from_the_code_are_current(script, tmp_path):
    """Running the generator elsewhere gives what is committed."""
    (tmp_path / "docs").mkdir()
    subprocess.run([sys.executable, str(ROOT / f"scripts/{script}.py")], cwd=tmp_path, check=True)
    for made in (tmp_path / "docs").iterdir():
        assert made.read_text() == (ROOT / "docs" / made.name).read_text()


def test_no_line_of_a_template_is_too_long_to_read():
    for template in (ROOT / "src/nimbus_reef/web/templates").rglob("*.html"):
        for number, line in enumerate(template.read_text().splitlines(), 1):
            assert len(line) <= 160, f"{template.name}:{number}"


def test_every_class_of_a_template_has_a_look():
    """A class that no style knows is left over, or lost its rule."""
    known = (ROOT / "src/nimbus_reef/web/static/reef.min.css").read_text().replace("\\", "")
    for template in (ROOT / "src/nimbus_reef/web/templates").rglob("*.html"):
        plain = re.sub(r"{{.*?}}|{%.*?%}|{#.*?#}", " ", template.read_text(), flags=re.S)
        for name in " ".join(re.findall(r'class="([^"]*)"', plain)).split():
            assert f".{name}" in known, f"{template.name}: {name}"


def test_every_link_of_the_documents_leads_somewhere():
    for document in (*ROOT.glob("*.md"), *ROOT.glob("docs/*.md")):
        for target in re.findall(r"\]\(([^)#]+)\)", document.read_text()):
            if not target.startswith("http"):
                assert (document.parent / target).exists(), f"{document.name}: {target}"


def test_chapters_that_formulas_refer_to_are_there():
    chapters = set(re.findall(r"^## (.+)$", (ROOT / "docs/calculations.md").read_text(), re.M))
    for module in (ROOT / "src/nimbus_reef").rglob("*.py"):
        for name in re.findall(r"docs/calculations\.md, “([^”]+)”", module.read_text()):
            assert name in chapters, f"{module.name}: {name}"


def test_the_readme_s_commands_are_the_makefile_s():
    readme, makefile = (ROOT / "README.md").read_text(), (ROOT / "Makefile").read_text()
    for target in re.findall(r"^    make (\w+)", readme, re.M):
        assert f"\n{target}:" in makefile
    assert "make test" in (ROOT / ".ci/run").read_text()


def test_locks_pin_with_hashes_and_name_no_address():
    for lock in (ROOT / "requirements").glob("*.txt"):
        text = lock.read_text()
        assert "://" not in text
        for line in re.findall(r"^[a-z].*$", text, re.M):
            assert "==" in line
        assert text.count("--hash=") >= len(re.findall(r"^[a-z]", text, re.M))
    packages = json.loads((ROOT / "package-lock.json").read_text())["packages"]
    assert all("resolved" not in package for package in packages.values())
    assert all("integrity" in package for name, package in packages.items() if name and not package.get("inBundle"))


def test_no_committed_file_is_large():
    for name in run("git", "ls-files").stdout.splitlines():
        path = ROOT / name
        assert not path.exists() or path.stat().st_size < 4 * 1024 * 1024, name


def test_every_name_in_the_documents_is_there():
    """`core.peers:standing` is a module of the package and what is in it, a method as `Class.method`."""
    for document in (*ROOT.glob("*.md"), *ROOT.glob("docs/*.md")):
        for module, name in re.findall(r"`([a-z_.]+):([A-Za-z_.]+)`", document.read_text()):
            found = importlib.import_module(f"nimbus_reef.{module}")
            for part in name.split("."):
                assert hasattr(found, part), f"{document.name}: {module}:{name}"
                found = getattr(found, part)


def test_names_in_docstrings_are_there():
    """Where a docstring says `module.function` of a sibling or of the core, both exist."""
    package = ROOT / "src/nimbus_reef"
    modules = {".".join(path.relative_to(package).with_suffix("").parts) for path in package.rglob("*.py")}
    stale = []
    for path in package.rglob("*.py"):
        own = path.relative_to(package).parent.parts
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef):
                continue
            for told in re.findall(r"`([a-z_]+(?:\.[a-z_]+)*)\.([A-Za-z_]+)`", ast.get_docstring(node) or ""):
                place = next((m for m in (told[0], ".".join((*own, told[0])), f"core.{told[0]}") if m in modules), None)
                if place and not hasattr(importlib.import_module(f"nimbus_reef.{place}"), told[1]):
                    stale.append(f"{path.name}: {'.'.join(told)}")
    assert stale == []


def test_a_class_has_a_name_of_its_own():
    """Two things of one name make a reader look twice."""
    names = [
        node.name
        for file in (ROOT / "src").rglob("*.py")
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.ClassDef)
    ]
    assert [name for name in set(names) if names.count(name) > 1] == []


RATIO = re.compile(r"""(?:spend|sales|orders|clicks)["\])]*\ /\ [\w.(\["']*(?:spend|sales|orders|clicks)\b""")
PER_MONTH = re.compile(r"\b30(?:\.0)? / |[*/] 30\b|[*/] MONTH_DAYS")
OWN_RULES = {"analysis/catalog/catch_all.py", "analysis/judged_proposals.py", "web/standing/typed.py"}
"""A day's budget for a month's money, what is bid for each unit paid, percentiles typed by hand: none of the trade."""


def test_ratios_and_per_30_days_are_worked_out_in_core_alone():
    package = ROOT / "src/nimbus_reef"
    found = [
        f"{file.relative_to(package)}:{number}: {line.strip()}"
        for area in ("analysis", "web", "cli", "jobs", "store")
        for file in sorted((package / area).rglob("*.py"))
        if str(file.relative_to(package)) not in OWN_RULES
        for number, line in enumerate(file.read_text().splitlines(), 1)
        if RATIO.search(line) or PER_MONTH.search(line)
    ]
    assert not found, "use core.metrics.ratio, core.windows.per_month: " + "; ".join(found)
