"""The private server's small files: whoever reads them sees them whole, and alone."""

import stat
import threading

from nimbus_reef.store.server import write_whole


def test_a_reader_never_sees_half_a_file(tmp_path):
    file, seen, done = tmp_path / "port", set(), threading.Event()
    write_whole(file, "3306" * 1_000)

    def read():
        while not done.is_set():
            seen.add(len(file.read_text()))

    reader = threading.Thread(target=read)
    reader.start()
    for _ in range(500):
        write_whole(file, "3306" * 1_000)
    done.set()
    reader.join()
    assert seen == {4_000}
    assert [each.name for each in tmp_path.iterdir()] == ["port"]


def test_the_first_to_write_wins_where_asked_and_nobody_else_may_read(tmp_path):
    file = tmp_path / "secret"
    write_whole(file, "first", replace=False)
    write_whole(file, "second", replace=False)
    assert file.read_text() == "first"
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
