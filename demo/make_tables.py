#!/usr/bin/env python3
"""Make the demo's tables: the books of Highmeadow Honey Co-op, all of it made up.

    python3 demo/make_tables.py

writes harvest.csv, hives.csv, bloom.csv, notebook.csv and labels.csv beside this file, always the same bytes. Python's
standard library only. The findings are put in on purpose, a few of each kind; FINDINGS below says
where.
"""
import csv
import pathlib
import random
from datetime import date, timedelta

HERE = pathlib.Path(__file__).parent
APIARIES = {  # apiary: (valley, hives)
    "Fellside": ("Upper Wend", 24),
    "Nether Moor": ("Upper Wend", 18),
    "Larkfield": ("Silverbeck", 21),
    "Old Quarry": ("Silverbeck", 12),
    "Bramble End": ("Hollow Dale", 20),
    "Mill Race": ("Hollow Dale", 15),
}
KEEPERS = ["Aldis Foxmoor", "Brenna Quince", "Corvin Ashmead", "Edda Larkhollow", "Jorun Elderfield", "Tamsin Oxlip"]
LINES = ["Amberline", "Brightwing", "Coppermark", "Duskveil", "Goldsedge"]
MARKS = ["white", "yellow", "red", "green", "blue"]
NOTES = ["", "", "", "", "first flow", "strong colony", "capped frames only", "rain in the afternoon"]
BLOOM = [
    ("Valley", "Main bloom", "April", "May", "June", "July", "August"),
    ("Upper Wend", "heather", "willow", "dandelion", "clover", "bramble", "heather"),
    ("Silverbeck", "lime", "blackthorn", "hawthorn", "clover", "lime", "willowherb"),
    ("Hollow Dale", "clover", "willow", "sycamore", "clover", "bramble", "ivy"),
    ("Farther Combe", "borage", "", "hawthorn", "borage", "borage", "ivy"),
]


def write(name, rows, delimiter=","):
    with open(HERE / name, "w", encoding="utf-8", newline="") as file:
        csv.writer(file, delimiter=delimiter, lineterminator="\n").writerows(rows)


def hives(rng):
    rows = []
    for apiary, (_, count) in APIARIES.items():
        keepers = rng.sample(KEEPERS, 2)
        for number in range(1, count + 1):
            since = date(2019, 4, 1) + timedelta(days=rng.randrange(1600))
            rows.append([rng.choice(LINES), rng.choice(MARKS), rng.choice(keepers), apiary, f"H-{number:03}", since])
    rng.shuffle(rows)
    find = lambda apiary, tag: next(row for row in rows if row[3] == apiary and row[4] == tag)
    # duplicate: entered twice, the same in every taken column
    for apiary, tag in [("Fellside", "H-005"), ("Larkfield", "H-011"), ("Mill Race", "H-002")]:
        again = list(find(apiary, tag))
        again[1] = "unmarked"
        rows.insert(rng.randrange(len(rows)), again)
    # conflicting: entered again when the hive went to another keeper
    for apiary, tag, keeper in [("Fellside", "H-004", "Tamsin Oxlip"), ("Bramble End", "H-009", "Aldis Foxmoor")]:
        again = list(find(apiary, tag))
        assert again[2] != keeper
        again[2], again[5] = keeper, again[5] + timedelta(days=700)
        rows.insert(rng.randrange(len(rows)), again)
    # collapsed: entered again under another spelling, which only steps make the same key
    again = list(find("Mill Race", "H-005"))
    again[4] = "h-5"
    rows.insert(77, again)
    # a tag that was never filled in
    rows.insert(40, ["Duskveil", "red", "Edda Larkhollow", "Old Quarry", "", date(2023, 5, 2)])
    return [["Queen line", "Marked", "Keeper", "Site code", "Tag", "Since"]] + rows


def harvest(rng):
    rows = []
    unused = {("Old Quarry", n) for n in (3, 7, 8)} | {("Mill Race", 14), ("Nether Moor", 17)}
    stands = [(a, n) for a, (_, count) in APIARIES.items() for n in range(1, count + 1) if (a, n) not in unused]
    ambiguous = [("Fellside", 4), ("Fellside", 4), ("Bramble End", 9), ("Bramble End", 9), ("Bramble End", 9)]
    picked = ambiguous + stands + rng.choices([s for s in stands if s not in ambiguous], k=240 - len(stands) - 5)
    rng.shuffle(picked)
    day = date(2026, 5, 18)
    for batch, (apiary, number) in enumerate(picked, 1):
        day += timedelta(days=rng.choice([0, 0, 1]))
        kilos = f"{rng.uniform(4, 19):.1f}"
        rows.append([f"B{batch:04}", day, apiary, f"H-{number:03}", APIARIES[apiary][0], kilos, rng.choice(NOTES)])
    ordinary = [row for row in rows if (row[2], row[3]) not in {("Fellside", "H-004"), ("Bramble End", "H-009")}]
    odd = rng.sample(ordinary, 18)
    # unmatched: no such hive in the registry
    for row, (apiary, tag) in zip(odd, [("Fellside", "H-112"), ("Larkfield", "H-040"), ("Larkfield", "H-O12"),
                                        ("Nether Moor", "H-019"), ("Bramble Ende", "H-003"), ("Old Quarry", "H-013"),
                                        ("Fellside", "H-025"), ("Mill Race", "K-002"), ("Nether Moor", "H-020")]):
        row[2], row[3] = apiary, tag
    # blank key: the tag was not read off
    for row in odd[9:14]:
        row[3] = ""
        row[6] = "tag not legible"
    # a valley that the bloom calendar does not have
    for row in odd[14:16]:
        row[4] = "Wend, lower"
    # quotes and line breaks, which come through as they are
    odd[16][6] = 'labelled "spring" by mistake'
    odd[17][6] = "two buckets:\none sealed, one open"
    return [["Batch", "Picked on", "Apiary", "Hive", "Valley", "Honey kg", "Note"]] + rows


def notebook(rng):
    """What the keepers wrote down at the hives, each in a way of their own. Every hive is there, and is in the
    registry once: with the right steps all of them match."""
    apiaries = [
        lambda name: name,
        str.upper,
        str.lower,
        lambda name: f" {name} ",
        lambda name: name.replace(" ", "\u00a0"),  # a no-break space, as a web page has it
        lambda name: name.replace(" ", "  "),
        lambda name: name + "\u200b",  # a zero-width space
    ]
    tags = [
        lambda number: f"H-{number:03}",
        lambda number: f"h-{number}",
        lambda number: f"H{number:03}",
        lambda number: f"hive {number}",
        lambda number: f"{number}",
        lambda number: f"H-{number:03} ",
        lambda number: f"Ｈ－{number:03}".translate({ord(str(d)): ord("０") + d for d in range(10)}),  # full width
    ]
    hives = [(a, n) for a, (_, count) in APIARIES.items() for n in range(1, count + 1)]
    plain = [(a, n) for a, n in hives if (a, n) not in {("Fellside", 4), ("Bramble End", 9)}]
    rows = []
    for page, (apiary, number) in enumerate(rng.sample(plain, 49), 1):
        seen = date(2026, 6, 1) + timedelta(days=page // 3)
        written = apiaries[page % 7](apiary), tags[page // 7](number) if page < 49 else "H-001"
        rows.append([page, *written, f"{seen.day}.{seen.month}.{seen.year}", rng.randrange(5, 11)])
    return [["Page", "Apiary", "Hive", "Seen on", "Frames"]] + rows


def labels(registry, rng):
    """The labels on the jars: apiary, queen line and the last two digits of the tag, in one text."""
    rows = []
    for line, _, _, apiary, tag, _ in rng.sample(registry[1:], 30):
        if tag:
            rows.append([f"{apiary}/{line}/{tag[-2:]}", rng.choice(["250 g", "500 g", "1 kg"]), rng.randrange(20, 90)])
    return [["Label", "Jar", "Printed"]] + rows


def main():
    registry = hives(random.Random(11))
    write("hives.csv", registry)
    write("notebook.csv", notebook(random.Random(7)))
    write("labels.csv", labels(registry, random.Random(3)))
    write("harvest.csv", harvest(random.Random(5)))
    write("bloom.csv", BLOOM, delimiter=";")


if __name__ == "__main__":
    main()
