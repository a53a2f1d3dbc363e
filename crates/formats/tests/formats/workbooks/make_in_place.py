#!/usr/bin/env python3
"""Make the workbooks beside this file that tests write into.

in-place-office.xlsx is made by a spreadsheet program that runs headless (needs soffice, and the `uno` module of the
system's Python). in-place-table.xlsx and in-place-macros.xlsm are made by libraries (need openpyxl, XlsxWriter and
Pillow from PyPI). Each has a worksheet Harvest with the columns Batch, Apiary, Hive, Kg, Price and Value, which are
followed by nothing, and whatever else people have in workbooks.
"""
import io
import pathlib
import struct
import subprocess
import sys
import time
import zlib
from datetime import date

HERE = pathlib.Path(__file__).parent
HEADERS = ["Batch", "Apiary", "Hive", "Picked on", "Kg", "Price", "Value"]
SITES = ["Fellside", "Larkfield", "Old Quarry"]
ROWS = [
    [f"B{n:03}", SITES[n % 3], n % 7 + 1, date(2026, 5, 1 + n % 28), 4 + n * 37 % 100 / 10, 6.5]
    for n in range(1, 25)
]


def png():
    """A small picture."""
    raw = b"".join(b"\0" + bytes([240, 180, 40]) * 16 for _ in range(16))
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(
        ">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", 16, 16, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(raw)) + chunk(b"IEND", b"")


def office(port=20302):
    """A workbook of a spreadsheet program: chart, pivot table, picture, formats, validation, comments, names."""
    import uno
    from com.sun.star.awt import Point, Rectangle, Size
    from com.sun.star.beans import PropertyValue
    from com.sun.star.sheet.ConditionOperator import GREATER
    from com.sun.star.sheet.ValidationType import LIST
    from com.sun.star.table import CellRangeAddress

    program = subprocess.Popen(["soffice", "--headless", "--norestore", "--nologo",
                                f"--accept=socket,host=127.0.0.1,port={port};urp;"])
    local = uno.getComponentContext()
    resolver = local.ServiceManager.createInstanceWithContext("com.sun.star.bridge.UnoUrlResolver", local)
    for _ in range(60):
        try:
            context = resolver.resolve(f"uno:socket,host=127.0.0.1,port={port};urp;StarOffice.ComponentContext")
            break
        except Exception:
            time.sleep(1)
    desktop = context.ServiceManager.createInstanceWithContext("com.sun.star.frame.Desktop", context)
    document = desktop.loadComponentFromURL("private:factory/scalc", "_blank", 0, ())
    sheet = document.Sheets.getByIndex(0)
    sheet.Name = "Harvest"
    # A title, an empty row, then the table.
    sheet.getCellByPosition(0, 0).String = "Harvest of the Highmeadow Honey Co-op"
    sheet.getCellRangeByName("A1:G1").merge(True)
    for column, header in enumerate(HEADERS):
        cell = sheet.getCellByPosition(column, 2)
        cell.String = header
        cell.CellBackColor = 0xDDE8CB
        cell.CharWeight = 150
    formats = document.NumberFormats
    locale = uno.createUnoStruct("com.sun.star.lang.Locale")
    day = formats.addNew("DD.MM.YYYY", locale)
    money = formats.addNew('#,##0.00 "cr"', locale)
    for nth, row in enumerate(ROWS):
        line = 3 + nth
        for column, value in enumerate(row):
            cell = sheet.getCellByPosition(column, line)
            if isinstance(value, date):
                cell.Value = (value - date(1899, 12, 30)).days
                cell.NumberFormat = day
            elif isinstance(value, str):
                cell.String = value
            else:
                cell.Value = value
        price = sheet.getCellByPosition(5, line)
        price.NumberFormat = money
        if nth % 6 == 5:
            price.Formula = "=Prices.$B$2*1.1"
        total = sheet.getCellByPosition(6, line)
        total.Formula = f"=E{line + 1}*F{line + 1}"
        total.NumberFormat = money
    last = 3 + len(ROWS)
    sheet.getCellByPosition(0, 12).CellBackColor = 0xFFFF00
    sheet.Annotations.insertNew(sheet.getCellByPosition(4, 5).CellAddress, "weighed twice")
    sheet.Columns.getByIndex(1).Width = 4200
    sheet.Rows.getByIndex(0).Height = 900
    # Rows that show more than 12 kg, and sites from a list.
    conditions = sheet.getCellRangeByName(f"E4:E{last}").ConditionalFormat
    style = document.createInstance("com.sun.star.style.CellStyle")
    document.StyleFamilies.getByName("CellStyles").insertByName("Heavy", style)
    style.CellBackColor = 0xF4B183
    entry = [PropertyValue("Operator", 0, GREATER, 0), PropertyValue("Formula1", 0, "12", 0),
             PropertyValue("StyleName", 0, "Heavy", 0)]
    conditions.addNew(tuple(entry))
    cells = sheet.getCellRangeByName(f"E4:E{last}")
    cells.ConditionalFormat = conditions
    cells = sheet.getCellRangeByName(f"B4:B{last}")
    validation = cells.Validation
    validation.Type = LIST
    validation.setFormula1('"Fellside";"Larkfield";"Old Quarry"')
    cells.Validation = validation
    prices = document.Sheets.insertNewByName("Prices", 1) or document.Sheets.getByName("Prices")
    prices.getCellByPosition(0, 0).String = "Size"
    prices.getCellByPosition(1, 0).String = "Price"
    prices.getCellByPosition(0, 1).String = "250 g"
    prices.getCellByPosition(1, 1).Value = 6.5
    prices.getCellByPosition(0, 3).String = "Sum"
    prices.getCellByPosition(1, 3).Formula = f"=SUM(Harvest.G4:G{last})"
    area = sheet.getCellRangeByName(f"A3:G{last}").RangeAddress
    document.NamedRanges.addNewByName("Batches", f"$Harvest.$A$3:$G${last}",
                                      sheet.getCellByPosition(0, 0).CellAddress, 0)
    document.NamedRanges.addNewByName("Rate", "$Prices.$B$2", sheet.getCellByPosition(0, 0).CellAddress, 0)
    document.DatabaseRanges.addNewByName("Filtered", area)
    document.DatabaseRanges.getByName("Filtered").AutoFilter = True
    where = Rectangle(0, 14500, 12000, 7000)
    sheet.Charts.addNewByName("Kg", where, (sheet.getCellRangeByName(f"E3:E{last}").RangeAddress,), True, False)
    sheet.PageStyle and None
    sheet.setPrintAreas((area,))
    document.CurrentController.setActiveSheet(sheet)
    document.CurrentController.freezeAtPosition(1, 3)
    # A picture.
    stream = context.ServiceManager.createInstanceWithContext("com.sun.star.io.SequenceInputStream", context)
    stream.initialize((uno.ByteSequence(png()),))
    provider = context.ServiceManager.createInstanceWithContext("com.sun.star.graphic.GraphicProvider", context)
    picture = document.createInstance("com.sun.star.drawing.GraphicObjectShape")
    picture.Graphic = provider.queryGraphic((PropertyValue("InputStream", 0, stream, 0),))
    prices.DrawPage.add(picture)
    picture.Size = Size(1500, 1500)
    picture.Position = Point(8000, 500)
    # A pivot table.
    pivot_sheet = document.Sheets
    pivot_sheet.insertNewByName("Pivot", 2)
    tables = pivot_sheet.getByName("Pivot").DataPilotTables
    description = tables.createDataPilotDescriptor()
    description.setSourceRange(area)
    fields = description.DataPilotFields
    from com.sun.star.sheet.DataPilotFieldOrientation import DATA, ROW
    fields.getByIndex(1).Orientation = ROW
    fields.getByIndex(4).Orientation = DATA
    tables.insertNewByName("By apiary", pivot_sheet.getByName("Pivot").getCellByPosition(0, 0).CellAddress, description)
    target = (HERE / "in-place-office.xlsx").resolve().as_uri()
    document.storeToURL(target, (PropertyValue("FilterName", 0, "Calc MS Excel 2007 XML", 0),))
    document.close(True)
    try:
        desktop.terminate()
    except Exception:
        pass
    program.wait(30)


def table():
    """A workbook of a library: a table with totals and a calculated column, a chart, a picture, formats, protection."""
    from openpyxl import Workbook
    from openpyxl.chart import BarChart, Reference
    from openpyxl.comments import Comment
    from openpyxl.drawing.image import Image
    from openpyxl.formatting.rule import CellIsRule
    from openpyxl.styles import Border, Font, PatternFill, Side
    from openpyxl.workbook.defined_name import DefinedName
    from openpyxl.worksheet.datavalidation import DataValidation
    from openpyxl.worksheet.table import Table, TableColumn, TableFormula, TableStyleInfo

    book = Workbook()
    sheet = book.active
    sheet.title = "Harvest"
    sheet.append(HEADERS)
    for row in ROWS:
        sheet.append(row + [None])
    last = len(ROWS) + 1
    for line in range(2, last + 1):
        sheet[f"G{line}"] = f"=E{line}*F{line}"
        sheet[f"D{line}"].number_format = "dd/mm/yyyy"
        sheet[f"F{line}"].number_format = '0.00 "cr"'
    sheet["F5"] = "=Rates!$A$1"
    sheet[f"A{last + 1}"], sheet[f"G{last + 1}"] = "Total", f"=SUBTOTAL(109,G2:G{last})"
    for cell in sheet[1]:
        cell.font = Font(bold=True, color="FFFFFF")
        cell.fill = PatternFill("solid", fgColor="7F6000")
        cell.border = Border(bottom=Side(style="thick"))
    harvest = Table(displayName="HarvestTable", ref=f"A1:G{last + 1}", totalsRowCount=1)
    harvest._initialise_columns()
    for column, header in zip(harvest.tableColumns, HEADERS):
        column.name = header
    harvest.tableColumns[6].calculatedColumnFormula = TableFormula(
        attr_text="HarvestTable[[#This Row],[Kg]]*HarvestTable[[#This Row],[Price]]")
    harvest.tableColumns[6].totalsRowFunction = "sum"
    harvest.tableColumns[0].totalsRowLabel = "Total"
    harvest.tableStyleInfo = TableStyleInfo(name="TableStyleMedium9", showRowStripes=True)
    sheet.add_table(harvest)
    sheet.conditional_formatting.add(f"E2:E{last}", CellIsRule(
        operator="greaterThan", formula=["12"], fill=PatternFill(bgColor="F4B183")))
    choice = DataValidation(type="list", formula1='"Fellside,Larkfield,Old Quarry"')
    choice.add(f"B2:B{last}")
    sheet.add_data_validation(choice)
    sheet["C3"].comment = Comment("split in June", "Edda Larkhollow")
    sheet["A2"].hyperlink = "https://example.org/batches/1"
    sheet.freeze_panes = "B2"
    sheet.column_dimensions["B"].width = 18
    sheet.print_title_rows = "1:1"
    chart = BarChart()
    chart.add_data(Reference(sheet, min_col=5, min_row=1, max_row=last), titles_from_data=True)
    sheet.add_chart(chart, "L20")
    rates = book.create_sheet("Rates")
    rates["A1"], rates["B1"] = 7.25, "=SUM(Harvest!G2:G9)"
    rates.add_image(Image(io.BytesIO(png())), "D2")
    locked = book.create_sheet("Locked")
    locked.append(["Batch", "Hive"])
    locked.append(["B001", 2])
    locked.protection.enable()
    book.defined_names["Kilograms"] = DefinedName("Kilograms", attr_text=f"Harvest!$E$2:$E${last}")
    book.defined_names["Whole"] = DefinedName("Whole", attr_text=f"Harvest!$A$2:$G${last}")
    book.save(HERE / "in-place-table.xlsx")


def macros():
    """A workbook of another library, with macros, a filter, shared strings and stored values of formulas."""
    import xlsxwriter

    program = HERE / "macros.bin"
    # Nothing runs it: it has to stay what it is.
    program.write_bytes(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(range(256)) * 8)
    book = xlsxwriter.Workbook(HERE / "in-place-macros.xlsm")
    book.add_vba_project(str(program))
    sheet = book.add_worksheet("Harvest")
    bold = book.add_format({"bold": True, "bg_color": "#DDE8CB", "border": 1})
    day = book.add_format({"num_format": "dd mmm yyyy"})
    money = book.add_format({"num_format": "0.00"})
    sheet.write_row(0, 0, HEADERS, bold)
    for nth, row in enumerate(ROWS, 1):
        for column, value in enumerate(row):
            if isinstance(value, date):
                sheet.write_datetime(nth, column, value, day)
            else:
                sheet.write(nth, column, value, money if column == 5 else None)
        sheet.write_formula(nth, 6, f"=E{nth + 1}*F{nth + 1}", money, row[4] * row[5])
    sheet.autofilter(0, 0, len(ROWS), 6)
    sheet.freeze_panes(1, 0)
    sheet.write_comment("E4", "weighed twice")
    sheet.insert_button("M2", {"macro": "Refresh", "caption": "Refresh"})
    sheet.conditional_format(1, 4, len(ROWS), 4, {"type": "data_bar"})
    other = book.add_worksheet("Notes")
    other.write("A1", "Hives are counted in March.")
    chart = book.add_chart({"type": "line"})
    chart.add_series({"values": f"=Harvest!$E$2:$E${len(ROWS) + 1}"})
    other.insert_chart("C3", chart)
    book.define_name("AllBatches", f"=Harvest!$A$1:$G${len(ROWS) + 1}")
    book.close()
    program.unlink()


if __name__ == "__main__":
    for name in sys.argv[1:] or ["office", "table", "macros"]:
        {"office": office, "table": table, "macros": macros}[name]()
