// What a program in JavaScript does with the SQL port: node client.js URL
const { Client } = require('pg');
const Cursor = require('pg-cursor');

async function main() {
  const c = new Client(process.argv[2]);
  await c.connect();
  const typed = await c.query('select id, depth_m, drilled_on, name from drilling.boreholes where district = $1 and id < $2 order by id', ['north', 4]);
  console.log(JSON.stringify(typed.rows.map((r) => [r.id, r.depth_m, r.name])), typed.fields.map((f) => f.dataTypeID).join(' '));
  const cursor = c.query(new Cursor('select id from drilling.boreholes order by id'));
  let rows = 0;
  for (let part; (part = await cursor.read(400)).length; ) rows += part.length;
  await cursor.close();
  console.log('rows', rows);
  try {
    await c.query('insert into drilling.boreholes (id) values (1)');
  } catch (e) {
    console.log('refused', e.code);
  }
  await c.query('begin');
  await c.query('savepoint a');
  await c.query('selec').catch((e) => console.log('syntax', e.code, e.position));
  await c.query('rollback to a');
  const named = { name: 'count', text: 'select count(*) from drilling.boreholes where name like $1', values: ['NO%'] };
  console.log('count', (await c.query(named)).rows[0].count, (await c.query(named)).rows[0].count);
  await c.query('commit');
  await c.end();
}

main().catch((e) => {
  console.error(e);
  process.exit(1);
});
