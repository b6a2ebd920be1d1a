"""What a notebook does with the SQL port: client.py URL"""
import io
import sys

import psycopg2
from sqlalchemy import MetaData, Table, create_engine, inspect, text

url = sys.argv[1]
c = psycopg2.connect(url)
cur = c.cursor()
cur.execute("select id, depth_m, drilled_on, name from drilling.boreholes where district = %s and id < %s order by id", ("north", 4))
print(cur.fetchall(), [d[1] for d in cur.description])
named = c.cursor("rows")
named.itersize = 300
named.execute("select id from drilling.boreholes order by id")
print("rows", sum(1 for _ in named))
c.commit()
cur = c.cursor()
out = io.StringIO()
cur.copy_expert("copy (select id, name from drilling.boreholes order by id limit 2) to stdout with csv header", out)
print(repr(out.getvalue()))
try:
    cur.execute("update drilling.boreholes set name = 'x'")
except psycopg2.Error as e:
    print("refused", e.pgcode, type(e).__name__)
c.rollback()
c.close()

engine = create_engine(url.replace("postgresql://", "postgresql+psycopg2://"))
i = inspect(engine)
print(i.get_schema_names())
print(i.get_table_names("drilling"), i.get_view_names("drilling"))
print([(col["name"], str(col["type"]), col["nullable"]) for col in i.get_columns("lithology", "drilling")])
print(i.get_pk_constraint("lithology", "drilling"))
print([(k["constrained_columns"], k["referred_table"]) for k in i.get_foreign_keys("lithology", "drilling")])
print(i.get_indexes("lithology", "drilling"), i.get_unique_constraints("lithology", "drilling"), i.get_check_constraints("lithology", "drilling"))
table = Table("boreholes", MetaData(), schema="drilling", autoload_with=engine)
with engine.connect() as connection:
    print("loaded", len(table.columns), connection.execute(text("select count(*) from drilling.boreholes where depth_m > :d"), {"d": 600}).scalar())
