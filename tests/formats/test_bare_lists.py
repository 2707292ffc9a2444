"""Lists of phrases as people have them: one column, with a heading or without."""

import pytest

from nimbus_reef.formats import files


def table(tmp_path, text, name="ideas.txt"):
    path = tmp_path / name
    path.write_text(text, encoding="utf-8")
    return files.read_table(path, name)


def test_a_list_without_a_heading_loses_no_line(tmp_path):
    found = table(tmp_path, "ceramic herb pot\nsmart grow lamp\n\nseed tray\n")
    assert found.headers == ("keyword",)
    assert found.frame["keyword"].to_list() == ["ceramic herb pot", "smart grow lamp", "seed tray"]
    assert any("list without a heading" in note for note in found.notes)


@pytest.mark.parametrize("heading", ["keyword", "Keywords", "search phrase", "SKU", "Mot-clé"])
def test_a_heading_that_is_known_is_one(tmp_path, heading):
    found = table(tmp_path, f"{heading}\nceramic herb pot\n", "ideas.csv")
    assert found.frame[found.headers[0]].to_list() == ["ceramic herb pot"]
    assert not any("without a heading" in note for note in found.notes)


def test_two_columns_have_a_heading_as_ever(tmp_path):
    found = table(tmp_path, "pot,90\nlamp,80\n", "ideas.csv")
    assert found.headers == ("pot", "90")
