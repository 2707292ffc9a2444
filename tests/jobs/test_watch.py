"""The watched folder: known sources load by themselves, others wait, nothing is taken twice."""

import errno
import os
import threading
import time

import pytest

from nimbus_reef import config
from nimbus_reef.jobs import queue, watch
from nimbus_reef.jobs.intake import LoadRequest
from nimbus_reef.store.record import loads

HEAD = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n"
DAY = "2026-10-{:02},C,G,t,exact,9,1,1.00,0,0\n"


@pytest.fixture
def conf(tmp_path):
    return config.load({"REEF_VAR": str(tmp_path)})


@pytest.fixture
def sweep(store, conf):
    made = queue.make_queue(conf, store, immediate=True)
    return lambda: watch.sweep(store, watch.Folders(conf.inbox, conf.uploads), made.start)


def put(conf, account, name, text, age=60):
    folder = conf.inbox / account.key
    folder.mkdir(parents=True, exist_ok=True)
    (folder / name).write_text(text)
    os.utime(folder / name, (time.time() - age, time.time() - age))
    return folder


def test_a_new_source_waits_for_its_mapping_and_is_loaded_by_itself_from_then_on(store, account, conf, sweep):
    folder = put(conf, account, "first.csv", HEAD + DAY.format(1))
    assert sweep() == 1
    (waiting,) = loads.waiting_uploads(store, account.id)
    assert waiting.file_name == "first.csv"
    assert loads.batches(store, account.id) == []
    looked = queue.intake.inspect(store, account, conf.uploads / waiting.sha256, "first.csv")
    read_as = looked.suggestions[0].mapping
    queue.intake.load(store, LoadRequest(account, conf.uploads / waiting.sha256, "first.csv", read_as, scope="brand"))
    put(conf, account, "second.csv", HEAD + DAY.format(2))
    assert sweep() == 1
    newest = loads.batches(store, account.id)[0]
    assert (newest.file_name, newest.rows, newest.scope) == ("second.csv", 1, "brand")
    assert sorted(path.name.split("-")[-1] for path in (folder / watch.DONE).iterdir()) == ["first.csv", "second.csv"]
    assert sweep() == 0


def test_a_file_that_is_still_written_is_left_for_later(account, conf, sweep):
    put(conf, account, "half.csv", HEAD, age=0)
    assert sweep() == 0


def test_a_file_that_cannot_be_read_is_told_in_the_queue(store, account, conf, sweep):
    put(conf, account, "x.exe", "nonsense")
    assert sweep() == 1
    ((job, name),) = loads.recent_jobs(store, account.id)
    assert (job.state, name) == ("failed", "x.exe")
    assert "CSV, XLSX or Parquet" in job.message
    assert loads.waiting_uploads(store, account.id) == []


def test_two_sweeps_at_once_take_a_file_once(store, account, conf, sweep):
    for number in range(6):
        put(conf, account, f"{number}.csv", HEAD + DAY.format(number + 1))
    taken = []
    threads = [threading.Thread(target=lambda: taken.append(sweep())) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sum(taken) == 6
    assert len(loads.waiting_uploads(store, account.id)) == 6


def test_a_folder_that_cannot_be_read_does_not_stop_the_worker(store, account, conf):
    conf.inbox.parent.mkdir(parents=True, exist_ok=True)
    conf.inbox.write_text("a file where the folder should be")
    queue.sweep_inbox(conf, store, lambda _: None)


def test_a_file_that_cannot_be_taken_in_now_is_tried_again(account, conf, sweep, monkeypatch):
    """A full disk: the file keeps its name and its place, and the next minute takes it."""
    folder = put(conf, account, "a.csv", HEAD + DAY.format(1))

    def full(*_):
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(watch.intake, "keep_file", full)
        assert sweep() == 0
    assert (folder / "a.csv").exists()
    os.utime(folder / "a.csv", (time.time() - 60, time.time() - 60))
    assert sweep() == 1


def test_a_file_whose_taker_died_gets_its_name_back(account, conf, sweep):
    folder = put(conf, account, ".taking-0123456789ab-my-report.csv", HEAD + DAY.format(1), age=3600)
    assert sweep() == 1
    assert next((folder / watch.DONE).iterdir()).name.endswith("-my-report.csv")
    young = put(conf, account, ".taking-0123456789ab-other.csv", HEAD + DAY.format(2))
    assert sweep() == 0, "somebody has it in hand"
    assert (young / ".taking-0123456789ab-other.csv").exists()


def test_a_name_of_any_bytes_is_taken_in(store, account, conf, sweep):
    folder = put(conf, account, os.fsdecode(b"M\xe4rz.csv"), HEAD + DAY.format(1))
    assert sweep() == 1
    assert loads.waiting_uploads(store, account.id)[0].file_name == "M\ufffdrz.csv"
    assert len(list((folder / watch.DONE).iterdir())) == 1


def test_a_link_shows_nothing_of_what_it_leads_to(store, account, conf, sweep, tmp_path):
    secret = tmp_path / "secret"
    secret.write_text(HEAD + DAY.format(1))
    folder = put(conf, account, "other.txt", "x", age=0)
    (folder / "link.csv").symlink_to(secret)
    os.utime(folder / "link.csv", (time.time() - 60, time.time() - 60), follow_symlinks=False)
    sweep()
    assert loads.waiting_uploads(store, account.id) == []
    (found, name), *_ = loads.recent_jobs(store, account.id)
    assert (found.state, name) == ("failed", "link.csv")
    assert "a link, not a file" in found.message
    assert not any(conf.uploads.glob("*")) if conf.uploads.exists() else True
