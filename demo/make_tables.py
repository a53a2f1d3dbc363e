#!/usr/bin/env python3
"""Make the demo's tables: the books of Highmeadow Honey Co-op, all of it made up.

    python3 demo/make_tables.py

writes the tables beside this file, always the same bytes. Python's standard library only. The findings are put in on purpose, a few of each kind; FINDINGS below says
where.
"""
import csv
import json
import pathlib
import random
import sqlite3
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
    ("Valley", "Main bloom", "2026-04", "2026-05", "2026-06", "2026-07", "2026-08"),
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


SIZES = ["125 g", "250 g", "500 g", "1 kg", "2 kg", "5 kg"]


def jars():
    """A grid of jar codes: a row for each queen line, a column for each size."""
    rows = []
    for nth, line in enumerate(LINES):
        codes = [f"J{nth + 1}{size}0" for size in range(1, 7)]
        rows.append([*codes, line, ["white", "green", "blue", "black", "gold"][nth]])
    rows[2][4] = ""  # no 2 kg pail of Coppermark
    rows[4][5] = rows[0][5]  # one code printed on two pails
    return [[*SIZES, "Line", "Lid"]] + rows


def prices():
    """Price lists of two years, valid from day to day: with a gap, an overlap and an open end."""
    base = dict(zip(SIZES, [3.4, 6.2, 11.5, 21.0, 39.0, 92.0]))
    lists = {}
    for year, rise in [(2025, 1.0), (2026, 1.05)]:
        rows = []
        for nth, line in enumerate(LINES):
            for size in SIZES:
                price = round(base[size] * (1 + nth * 0.04) * rise, 1)
                rows.append([line, size, f"{year}-01-01", f"{year}-06-30", f"{price:.2f}"])
                rows.append([line, size, f"{year}-07-01", f"{year}-12-31", f"{price + 0.3:.2f}"])
        lists[year] = [["Line", "Size", "Valid from", "Valid to", "Price"]] + rows
    new = lists[2026]
    find = lambda line, size, start: next(row for row in new[1:] if row[:3] == [line, size, start])
    find("Brightwing", "1 kg", "2026-01-01")[3] = "2026-05-31"  # nothing is said of June
    find("Duskveil", "500 g", "2026-07-01")[2] = "2026-06-15"  # begins before the other ends
    find("Goldsedge", "250 g", "2026-07-01")[3] = ""  # until further notice
    # the columns of one year stand in another order
    old = [[row[i] for i in (0, 1, 4, 2, 3)] for row in lists[2025]]
    return old, new


def orders(rng, grid):
    rows = []
    codes = [code for row in grid[1:] for code in row[:6] if code and code != grid[1][5]]
    day = date(2025, 11, 24)
    shops = ["Corner Larder", "Mill Street Market", "The Honey Pot", "Wend Valley Stores"]
    for number in range(1, 46):
        day += timedelta(days=rng.randrange(9))
        rows.append([f"O{number:03}", day, rng.choice(shops), rng.choice(codes), rng.randrange(1, 13) * 6])
    put = lambda number, when, code: rows[number - 1].__setitem__(slice(1, 4, 2), [when, code])
    put(5, rows[4][1], "J770")  # no such code
    put(9, rows[8][1], grid[1][5])  # the code that two pails bear
    put(31, "2026-06-09", "J240")  # in the gap
    put(33, "2026-06-20", "J430")  # in the overlap
    put(36, rows[35][1], "")  # the code was left out
    put(38, "mid July", "J110")  # no date
    put(44, "2026-09-01", "J520")  # until further notice
    return [["Order", "Ordered on", "Shop", "Code", "Jars"]] + rows


def keepers():
    rounds = ["north", "south", "west"]
    rows = [[f"K{nth + 1}", name, rounds[nth % 3], f"bee box {nth + 11}"] for nth, name in enumerate(KEEPERS[:-1])]
    return [["Id", "Name", "Round", "Post to"]] + rows  # Tamsin Oxlip is not in it yet


def rounds():
    """What changes in the table of keepers: K2 goes another way, K5 has no box any more, and one is new."""
    return [
        ["Id", "Name", "Round", "Post to"],
        ["K1", "Aldis Foxmoor", "north", "bee box 11"],
        ["K2", "Brenna Quince", "west", ""],
        ["K3", "Corvin Ashmead", "south", "bee box 31"],
        ["K5", "Jorun Elderfield", "", "bee box 15"],
        ["K6", "Tamsin Oxlip", "east", "bee box 19"],
    ]


def late_harvest(rng, picked):
    """The harvest again, with what came in September: two batches of them from hives that nobody registered."""
    rows = []
    hives = [row[2:5] for row in rng.sample([row for row in picked[1:] if row[3]], 10)]
    hives += [["Larkfield", "H-041", "Silverbeck"], ["Larkfield", "H-042", "Silverbeck"]]
    day = date(2026, 9, 1)
    for batch, (apiary, tag, valley) in enumerate(hives, len(picked)):
        day += timedelta(days=rng.choice([0, 1]))
        rows.append([f"B{batch:04}", day, apiary, tag, valley, f"{rng.uniform(2, 9):.1f}", "last flow"])
    return picked + rows


def sites():
    """The apiaries as an old program exports them: semicolons, a title, and an encoding of before."""
    rows = [
        ["Apiary", "Farm of", "Parish"],
        ["Fellside", "Zoë Brightmoor", "Upper Wend"],
        ["Nether Moor", "André Holloway", "Upper Wend"],
        ["Larkfield", "Frances Tallis", "Silverbeck"],
        ["Old Quarry", "Noël Ashcombe", "Silverbeck"],
        ["Bramble End", "Iris Pennyfeather", "Hollow Dale"],
        ["Mill Race", "Jürgen Waterhouse", "Hollow Dale"],
    ]
    lines = ["Sites of Highmeadow Honey Co-op", "", *(";".join(row) for row in rows)]
    (HERE / "sites.csv").write_bytes("".join(line + "\r\n" for line in lines).encode("windows-1252"))


def weather(rng, picked):
    """What the weather station sent, a line a day; it was out of order on some."""
    days = sorted({row[1] for row in picked[1:]})
    lines = []
    for day in days:
        if rng.random() < 0.06:
            continue
        rain = round(max(0.0, rng.gauss(1, 3)), 1)
        lines.append(json.dumps({"day": str(day), "rain": {"mm": rain}, "wind": rng.choice(["W", "SW", "N", None])}))
    (HERE / "weather.jsonl").write_text("\n".join(lines) + "\n", encoding="utf-8")


def database():
    """The keepers as the co-op's own program keeps them."""
    path = HERE / "co-op.sqlite"
    path.unlink(missing_ok=True)
    with sqlite3.connect(path) as connection:
        connection.execute("create table members (id integer, name text, round text, since integer)")
        rows = [(100 + nth, name, ["north", "south", "west"][nth % 3], 2016 + nth) for nth, name in enumerate(KEEPERS)]
        connection.executemany("insert into members values (?, ?, ?, ?)", rows)
        connection.execute("create view south as select * from members where round = 'south'")
    connection.close()


def scale(rng, picked):
    """What the scale printed, batch after batch; its paper ran out before the end."""
    return [["Read kg"]] + [[f"{float(row[5]) + rng.choice([0, 0, 0, 0.1]):.1f}"] for row in picked[1:237]]


def main():
    registry = hives(random.Random(11))
    write("hives.csv", registry)
    write("notebook.csv", notebook(random.Random(7)))
    write("labels.csv", labels(registry, random.Random(3)))
    picked = harvest(random.Random(5))
    write("harvest.csv", picked)
    grid = jars()
    write("jars.csv", grid)
    write("orders.csv", orders(random.Random(13), grid))
    old, new = prices()
    write("prices-2025.csv", old)
    write("prices-2026.csv", new)
    write("keepers.csv", keepers())
    write("new-rounds.csv", rounds())
    sites()
    weather(random.Random(23), picked)
    database()
    write("harvest-september.csv", late_harvest(random.Random(17), picked))
    write("scale.csv", scale(random.Random(2), picked))
    write("bloom.csv", BLOOM, delimiter=";")


if __name__ == "__main__":
    main()
