#!/usr/bin/env python3
"""Make the workbooks beside this file in the formats that no crate writes. Needs odfpy and xlwt from PyPI."""
import pathlib
from datetime import date

import xlwt
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableCell, TableRow
from odf.text import P

HERE = pathlib.Path(__file__).parent
ROWS = [
    ["Site code", "Tag", "Since", "Kg", "Active"],
    ["Fellside", "H-001", date(2026, 5, 19), 12.0, True],
    ["Larkfield", "042", date(1900, 2, 28), 0.1, False],
]


def ods():
    document = OpenDocumentSpreadsheet()
    table = Table(name="Hives")
    document.spreadsheet.addElement(table)
    for row in ROWS:
        line = TableRow()
        table.addElement(line)
        for value in row:
            if isinstance(value, bool):
                cell = TableCell(valuetype="boolean", booleanvalue=str(value).lower())
            elif isinstance(value, float):
                cell = TableCell(valuetype="float", value=value)
            elif isinstance(value, date):
                cell = TableCell(valuetype="date", datevalue=value.isoformat())
            else:
                cell = TableCell(valuetype="string")
            cell.addElement(P(text=str(value)))
            line.addElement(cell)
    document.save(HERE / "hives.ods")


def xls():
    workbook = xlwt.Workbook()
    sheet = workbook.add_sheet("Hives")
    dated = xlwt.easyxf(num_format_str="YYYY-MM-DD")
    for line, row in enumerate(ROWS):
        for column, value in enumerate(row):
            if isinstance(value, date):
                sheet.write(line, column, value, dated)
            else:
                sheet.write(line, column, value)
    workbook.save(str(HERE / "hives.xls"))


ods()
xls()
