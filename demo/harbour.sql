-- What the harbour office of Fennick Quay stores, made up. PostgreSQL and SQLite
-- both take it as it is.
CREATE TABLE berths (
  id          integer PRIMARY KEY,
  label       varchar(8) NOT NULL, -- painted on the pier
  length_m    numeric(5, 2) NOT NULL,
  depth_m     numeric(5, 2) NOT NULL,
  price_eur   numeric(8, 2) NOT NULL,
  services    text NOT NULL,
  repair_note text
);
CREATE TABLE accounts (
  id      integer PRIMARY KEY,
  iban    text NOT NULL,
  balance numeric(10, 2) NOT NULL,
  api_key text NOT NULL
);
CREATE TABLE skippers (
  id            integer PRIMARY KEY,
  display_name  text NOT NULL,
  email         text NOT NULL UNIQUE,
  phone         text NOT NULL,
  password_hash text NOT NULL,
  born_on       date NOT NULL,
  loyalty_tier  text NOT NULL,
  account_id    integer NOT NULL UNIQUE REFERENCES accounts (id)
);
CREATE TABLE boats (
  id           integer PRIMARY KEY,
  name         text NOT NULL,
  length_m     numeric(5, 2) NOT NULL,
  hull_number  text NOT NULL,
  insurance_no text NOT NULL,
  skipper_id   integer NOT NULL REFERENCES skippers (id)
);
CREATE TABLE bookings (
  id         integer PRIMARY KEY,
  reference  varchar(12) NOT NULL,
  arrives_on date NOT NULL,
  leaves_on  date NOT NULL,
  desk_note  text,
  created_at timestamp NOT NULL,
  berth_id   integer NOT NULL REFERENCES berths (id),
  skipper_id integer NOT NULL REFERENCES skippers (id)
);
CREATE TABLE charges (
  id         integer PRIMARY KEY,
  kind       text NOT NULL CHECK (kind IN ('mooring', 'power', 'water')),
  amount_eur numeric(8, 2) NOT NULL,
  booking_id integer NOT NULL REFERENCES bookings (id)
);
CREATE TABLE inspections (
  id           integer PRIMARY KEY,
  inspected_on date NOT NULL,
  passed       boolean NOT NULL,
  remarks      text,
  boat_id      integer NOT NULL REFERENCES boats (id)
);
CREATE TABLE staff (
  id           integer PRIMARY KEY,
  display_name text NOT NULL,
  phone        text NOT NULL,
  desk_pin     text NOT NULL
);
CREATE TABLE notices (
  id        integer PRIMARY KEY,
  text      text NOT NULL,
  author_id integer NOT NULL REFERENCES staff (id)
);
