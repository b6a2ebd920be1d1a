"""Makes a spreadsheet of a governed table with LibreOffice, headless:
office.py SOFFICE DIR HOST PORT DATABASE USER PASSWORD SHEET"""
import os
import subprocess
import sys
import time

import uno
from com.sun.star.beans import PropertyValue

soffice, folder, host, port, database, user, password, sheet = sys.argv[1:]


def prop(name, value):
    p = PropertyValue()
    p.Name, p.Value = name, value
    return p


pipe = "gneiss" + str(os.getpid())
office = subprocess.Popen(
    [soffice, "-env:UserInstallation=file://" + folder + "/profile", "--headless", "--norestore", "--nologo", "--accept=pipe,name=" + pipe + ";urp;"],
    stdout=subprocess.DEVNULL,
    stderr=subprocess.DEVNULL,
)
try:
    resolver = uno.getComponentContext().ServiceManager.createInstance("com.sun.star.bridge.UnoUrlResolver")
    for attempt in range(120):
        try:
            context = resolver.resolve("uno:pipe,name=" + pipe + ";urp;StarOffice.ComponentContext")
            break
        except Exception:
            time.sleep(0.5)
    manager = context.ServiceManager
    drivers = manager.createInstanceWithContext("com.sun.star.sdbc.DriverManager", context)
    connection = drivers.getConnectionWithInfo(
        "sdbc:postgresql:host=%s port=%s dbname=%s sslmode=disable" % (host, port, database), (prop("user", user), prop("password", password))
    )
    tables = connection.getMetaData().getTables(None, "drilling", "%", ("TABLE",))
    names = []
    while tables.next():
        names.append(tables.getString(3))
    print("tables", names)
    rows = connection.createStatement().executeQuery("select id, name, district from drilling.boreholes order by id")
    desktop = manager.createInstanceWithContext("com.sun.star.frame.Desktop", context)
    document = desktop.loadComponentFromURL("private:factory/scalc", "_blank", 0, (prop("Hidden", True),))
    cells = document.Sheets.getByIndex(0)
    for i, name in enumerate(("id", "name", "district")):
        cells.getCellByPosition(i, 0).setString(name)
    n = 0
    while rows.next():
        n += 1
        cells.getCellByPosition(0, n).setValue(rows.getLong(1))
        cells.getCellByPosition(1, n).setString(rows.getString(2))
        cells.getCellByPosition(2, n).setString(rows.getString(3))
    print("rows", n)
    document.storeToURL("file://" + sheet, ())
    document.storeToURL("file://" + sheet.replace(".ods", ".csv"), (prop("FilterName", "Text - txt - csv (StarCalc)"), prop("FilterOptions", "44,34,76,1")))
    document.close(True)
    connection.close()
    try:
        desktop.terminate()
    except Exception:
        pass
finally:
    try:
        office.wait(20)
    except subprocess.TimeoutExpired:
        office.kill()
