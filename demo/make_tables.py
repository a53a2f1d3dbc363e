#!/usr/bin/env python3
"""Make the demo's tables: the books of Highmeadow Honey Co-op, all of it made up.

    python3 demo/make_tables.py

writes harvest.csv, hives.csv and bloom.csv beside this file, always the same bytes. Python's
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
        again[2] = keeper
        rows.insert(rng.randrange(len(rows)), again)
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


def main():
    write("hives.csv", hives(random.Random(11)))
    write("harvest.csv", harvest(random.Random(5)))
    write("bloom.csv", BLOOM, delimiter=";")


if __name__ == "__main__":
    main()
