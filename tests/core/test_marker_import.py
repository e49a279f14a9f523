"""Markers from labels: what the program itself writes, what others write, and what is no such list."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from isophon.core.errors import InputError
from isophon.core.ranges import MOST_MARKERS
from isophon.core.session import layout
from isophon.core.session.marker_import import import_markers, places_in


def listed(tmp_path, text, encoding="utf-8"):
    path = tmp_path / "labels.txt"
    path.write_bytes(text.encode(encoding))
    return path


def test_labels_become_markers_once(tmp_path):
    text = "# a remark\n0.5\t0.5\tVerse\n\\\t100\t200\n16.9\t20.0\tFirst chorus, “loud”\r\n\n64.4\t70\n"
    places = places_in(listed(tmp_path, text, "utf-8-sig"))
    assert places == [(0.5, "Verse"), (16.9, "First chorus, “loud”"), (64.4, "70")]
    session = import_markers(layout.new_session("Song", []), places)
    assert [(m.at, m.name) for m in session.markers] == places
    assert import_markers(session, places) == session, "those that are there are not doubled"


@pytest.mark.parametrize(("text", "where"), [
    ("0.5\t1\tA\nlater\t2\tB\n", "line 2"), ("-1\t2\tA\n", "line 1"), ("nan\t2\tA\n", "line 1"),
    ("1e300\t2\tA\n", "line 1"), ("\n\n", "holds no labels"), ("", "holds no labels"),
])  # fmt: skip
def test_what_is_no_such_list_is_said_with_its_line(tmp_path, text, where):
    with pytest.raises(InputError, match=where):
        places_in(listed(tmp_path, text))


@given(st.binary(max_size=300))
def test_no_bytes_do_more_than_say_so(tmp_path_factory, content):
    path = tmp_path_factory.mktemp("labels") / "x.txt"
    path.write_bytes(content)
    try:
        places = places_in(path)
    except InputError as error:
        assert "x.txt" in str(error) and "\n" not in str(error)
    else:
        session = import_markers(layout.new_session("Song", []), places)
        assert all(0 <= marker.at <= 86_400 and marker.name for marker in session.markers)


def test_a_song_holds_so_many_and_no_more():
    places = [(float(i), f"Place {i}") for i in range(MOST_MARKERS + 5)]
    assert len(import_markers(layout.new_session("Song", []), places).markers) == MOST_MARKERS
