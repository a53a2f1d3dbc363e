#!/usr/bin/env python3
"""Make the demo's workbook: the sales book of Highmeadow Honey Co-op, all of it made up.

    python3 demo/make_workbook.py

writes co-op.xlsx beside this file from harvest.csv and prices-2026.csv, always the same bytes. Needs XlsxWriter from
PyPI. Its worksheet Sales has a title, a table Batches with a calculated column and a row of totals, validation, a conditional
format, a comment, and prices that somebody typed or calculated; Summary has formulas and a chart of it.
"""
import csv
import pathlib
from datetime import date, datetime

import xlsxwriter

HERE = pathlib.Path(__file__).parent
SIZES = ["250 g", "500 g", "1 kg"]
REDUCED = (4, 17)
FIRST = 3  # The line of the headers, from 1.


def main():
    harvest = list(csv.DictReader((HERE / "harvest.csv").open(encoding="utf-8")))[:24]
    book = xlsxwriter.Workbook(HERE / "co-op.xlsx")
    book.set_properties({"title": "Sales", "created": datetime(2026, 1, 1)})
    title = book.add_format({"bold": True, "font_size": 14, "font_color": "#7F6000"})
    day = book.add_format({"num_format": "d mmm yyyy", "align": "left"})
    money = book.add_format({"num_format": "0.00"})
    bold = book.add_format({"bold": True})
    heavy = book.add_format({"bg_color": "#F8CBAD"})

    sales = book.add_worksheet("Sales")
    sales.write("A1", "Highmeadow Honey Co-op: sales of 2026", title)
    rows = []
    for nth, batch in enumerate(harvest):
        jars = int(float(batch["Honey kg"])) * 2
        rows.append([batch["Batch"], date.fromisoformat(batch["Picked on"]), batch["Apiary"], batch["Hive"],
                     SIZES[nth % 3], jars, 5.0])
    # Two prices that somebody reduced with a formula of their own.
    for nth in REDUCED:
        rows[nth][6] = 4.5
    last = FIRST + len(rows)
    columns = [{"header": header} for header in ["Batch", "Picked on", "Apiary", "Hive", "Size", "Jars"]]
    columns[0]["total_string"] = "Total"
    columns[5]["total_function"] = "=SUM(Batches[Jars])"
    columns[5]["total_value"] = sum(row[5] for row in rows)
    columns.append({"header": "Price", "format": money})
    columns.append({"header": "Worth", "format": money, "formula": "=Batches[[#This Row],[Jars]]*Batches[[#This Row],[Price]]", "total_function": "=SUM(Batches[Worth])",
                    "total_value": sum(row[5] * row[6] for row in rows)})
    sales.add_table(FIRST - 1, 0, last, 7,
                    {"name": "Batches", "columns": columns, "total_row": True, "style": "Table Style Light 11"})
    for nth, row in enumerate(rows, FIRST):
        for column, value in enumerate(row):
            if isinstance(value, date):
                sales.write_datetime(nth, column, value, day)
            elif isinstance(value, str):
                sales.write_string(nth, column, value)
            else:
                sales.write_number(nth, column, value, money if column == 6 else None)
        worth = row[5] * row[6]
        sales.write_formula(nth, 7, "=Batches[[#This Row],[Jars]]*Batches[[#This Row],[Price]]", money, worth)
    for nth in REDUCED:
        sales.write_formula(FIRST + nth, 6, "=5*0.9", money, 4.5)
    sales.data_validation(FIRST, 4, last - 1, 4, {"validate": "list", "source": SIZES})
    sales.conditional_format(FIRST, 5, last - 1, 5,
                             {"type": "cell", "criteria": ">", "value": 30, "format": heavy})
    sales.write_comment(FIRST + 4, 6, "reduced for the summer fair")
    sales.set_column(0, 0, 9)
    sales.set_column(1, 1, 13)
    sales.set_column(2, 2, 14)
    sales.freeze_panes(FIRST, 1)
    sales.set_landscape()
    sales.fit_to_pages(1, 0)

    summary = book.add_worksheet("Summary")
    apiaries = sorted({row[2] for row in rows})
    summary.write_row("A1", ["Apiary", "Jars", "Worth"], bold)
    for nth, apiary in enumerate(apiaries, 2):
        of_apiary = [row for row in rows if row[2] == apiary]
        summary.write(f"A{nth}", apiary)
        summary.write_formula(f"B{nth}", f"=SUMIF(Batches[Apiary],A{nth},Batches[Jars])", None,
                              sum(row[5] for row in of_apiary))
        summary.write_formula(f"C{nth}", f"=SUMIF(Batches[Apiary],A{nth},Batches[Worth])", money,
                              sum(row[5] * row[6] for row in of_apiary))
    end = len(apiaries) + 1
    summary.set_column(0, 0, 14)
    chart = book.add_chart({"type": "column"})
    chart.add_series({"name": "Worth", "categories": f"=Summary!$A$2:$A${end}", "values": f"=Summary!$C$2:$C${end}",
                      "fill": {"color": "#E0A526"}})
    chart.set_title({"name": "Worth by apiary"})
    chart.set_legend({"none": True})
    summary.insert_chart("E2", chart)
    summary.set_landscape()
    summary.fit_to_pages(1, 0)
    book.define_name("AllSales", f"=Sales!$A${FIRST}:$H${last}")
    book.close()


if __name__ == "__main__":
    main()
