#!/usr/bin/env python3
"""Make the workbooks beside this file in the formats that no crate writes. Needs odfpy and xlwt from PyPI."""
import pathlib
import struct
import zipfile
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


def xlsb():
    def record(kind, body=b""):
        def number(value):
            low = value & 0x7F
            return bytes([low | 0x80]) + number(value >> 7) if value > 0x7F else bytes([low])

        return number(kind) + number(len(body)) + body

    def wide(text):
        return struct.pack("<I", len(text)) + text.encode("utf-16-le")

    def cell(column, value):
        if isinstance(value, bool):
            return record(4, struct.pack("<IIB", column, 0, value))
        if isinstance(value, date):
            days = (value - date(1899, 12, 30)).days
            # Before March 1900 the days are counted otherwise.
            days -= value < date(1900, 3, 1)
            return record(5, struct.pack("<IId", column, 1, days))
        if isinstance(value, float):
            return record(5, struct.pack("<IId", column, 0, value))
        return record(7, struct.pack("<III", column, 0, texts.index(value)))

    texts = sorted({value for row in ROWS for value in row if isinstance(value, str)})
    shared = record(0x9F, struct.pack("<II", len(texts), len(texts)))
    shared += b"".join(record(0x13, b"\0" + wide(text)) for text in texts) + record(0xA0)
    # The second format of cells is that of dates, which is the 14th of those that need not be told.
    styles = record(0x269, struct.pack("<I", 2))
    styles += record(0x2F, struct.pack("<HH12x", 0, 0)) + record(0x2F, struct.pack("<HH12x", 0, 14))
    sheet = record(0x81) + record(0x94, struct.pack("<4I", 0, len(ROWS) - 1, 0, len(ROWS[0]) - 1)) + record(0x91)
    for line, row in enumerate(ROWS):
        sheet += record(0, struct.pack("<I13x", line))
        sheet += b"".join(cell(column, value) for column, value in enumerate(row))
    sheet += record(0x92) + record(0x82)
    workbook = record(0x83) + record(0x8F) + record(0x9C, struct.pack("<II", 0, 1) + wide("rId1") + wide("Hives"))
    workbook += record(0x90) + record(0x9D) + record(0x84)
    relation = '<Relationship Id="rId1" Target="worksheets/sheet1.bin"/>'
    with zipfile.ZipFile(HERE / "hives.xlsb", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, part in [
            ("xl/_rels/workbook.bin.rels", f"<Relationships>{relation}</Relationships>"),
            ("xl/sharedStrings.bin", shared),
            ("xl/styles.bin", styles),
            ("xl/workbook.bin", workbook),
            ("xl/worksheets/sheet1.bin", sheet),
        ]:
            archive.writestr(zipfile.ZipInfo(name), part)


ods()
xls()
xlsb()
