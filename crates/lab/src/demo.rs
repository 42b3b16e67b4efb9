//! The ferry company's data: departures, cabins and some 50,000 bookings, all made up from one
//! seed.

use anyhow::{Context, Result};
use tokio_postgres::NoTls;

/// Made by the server from its own seeded generator, in one transaction: there or not there.
const DATA: &str = "
begin;
select setseed(0.42);
create table if not exists drill_row (id bigint primary key, writer int not null, at timestamptz not null default now());
create table quay (name text primary key, zone text not null);
insert into quay values ('Northquay', 'northquay'), ('Southquay', 'southquay'), ('Lighthouse Point', 'lighthouse'), ('Gannet Stack', 'southquay');
create table departure (id int primary key, from_quay text not null references quay, to_quay text not null references quay,
                        leaves timestamptz not null, vessel text not null, places int not null);
insert into departure
select n, (array['Northquay', 'Southquay', 'Lighthouse Point', 'Gannet Stack'])[1 + n % 4],
       (array['Southquay', 'Lighthouse Point', 'Gannet Stack', 'Northquay'])[1 + n % 4],
       timestamptz '2026-06-01 05:30+00' + n * interval '47 minutes',
       (array['MV Guillemot', 'MV Razorbill', 'MV Storm Petrel'])[1 + n % 3], 180 + 20 * (n % 5)
from generate_series(1, 2000) n;
create table cabin (id int primary key, vessel text not null, deck int not null, berths int not null);
insert into cabin select n, (array['MV Guillemot', 'MV Razorbill', 'MV Storm Petrel'])[1 + n % 3], 3 + n % 4, 2 + 2 * (n % 2)
from generate_series(1, 240) n;
create table booking (id bigint generated always as identity primary key, departure int not null references departure,
                      cabin int references cabin, passenger text not null, places int not null, fare numeric(8,2) not null,
                      booked_at timestamptz not null default now());
insert into booking (departure, cabin, passenger, places, fare, booked_at)
select 1 + floor(random() * 2000)::int, case when random() < 0.2 then 1 + floor(random() * 240)::int end,
       (array['Ada', 'Birk', 'Cato', 'Dagny', 'Eldrid', 'Finn', 'Gro', 'Halvar', 'Idun', 'Jorunn'])[1 + floor(random() * 10)::int]
         || ' ' || (array['Skarv', 'Terne', 'Alke', 'Lunde', 'Teist', 'Lomvi', 'Havhest', 'Tjeld'])[1 + floor(random() * 8)::int],
       1 + floor(random() * 4)::int, round((12 + random() * 60)::numeric, 2),
       timestamptz '2026-05-01 00:00+00' + random() * interval '30 days'
from generate_series(1, 50000);
commit;";

/// Fills the workload's database through a gate, once. Returns the number of bookings.
pub async fn fill(connection: &str, password: &str) -> Result<i64> {
    let mut config: tokio_postgres::Config = connection.parse().context("connection string")?;
    config.password(password);
    let (client, session) = config.connect(NoTls).await.context("the gate")?;
    tokio::spawn(session);
    let there = client
        .query_one("select to_regclass('booking') is not null", &[])
        .await?;
    if !there.get::<_, bool>(0) {
        client.batch_execute(DATA).await.context("the demo data")?;
    }
    let count = client
        .query_one("select count(*) from booking", &[])
        .await?;
    Ok(count.get(0))
}
