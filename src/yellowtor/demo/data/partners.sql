CREATE TABLE sites (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  street TEXT,
  town TEXT,
  postcode TEXT,
  closed_on TEXT,
  lat REAL,
  lon REAL
);
INSERT INTO sites (id, name, street, town, postcode) VALUES (1, 'Pharmacy Skelinstead', '25 Ferry Steps', 'Skelinstead', '00170');
INSERT INTO sites (id, name, street, town, postcode) VALUES (2, 'Care home Nymrberga', '30 Beacon Street', 'Nymrberga', '00117');
INSERT INTO sites (id, name, street, town, postcode) VALUES (3, 'Pharmacy Zhelberga', '25 Pilot Road', 'Zhelberga', '00360');
INSERT INTO sites (id, name, street, town, postcode) VALUES (4, 'Care home Marrtarn', '10 Chandler Avenue', 'Marrtarn', '00544');
INSERT INTO sites (id, name, street, town, postcode) VALUES (5, 'Pharmacy Marrmærk', '20 Mariner Street', 'Marrmærk', '00425');
INSERT INTO sites (id, name, street, town, postcode) VALUES (6, 'Pharmacy Marrmærk', '15 Weaver Avenue', 'Marrmærk', '00425');
INSERT INTO sites (id, name, street, town, postcode) VALUES (7, 'Optician Zhelberga', '28 Driftwood Rise', 'Zhelberga', '00360');
INSERT INTO sites (id, name, street, town, postcode) VALUES (8, 'Dentist Nymrberga', '37 Tanner Row', 'Nymrberga', '00117');
INSERT INTO sites (id, name, street, town, postcode) VALUES (9, 'Pharmacy Zhelberga', '3 Thistle Terrace', 'Zhelberga', '00376');
INSERT INTO sites (id, name, street, town, postcode) VALUES (10, 'Day centre Haskawick', '33 Gannet Street', 'Haskawick', '00389');
INSERT INTO sites (id, name, street, town, postcode) VALUES (11, 'Optician Nymrolô', '32 Cooper Street', 'Nymrolô', '00261');
INSERT INTO sites (id, name, street, town, postcode) VALUES (12, 'Care home Haskawick', '8 Ørlun Steps', 'Haskawick', '00389');
INSERT INTO sites (id, name, street, town, postcode) VALUES (13, 'Optician Kelmastead', '16 Ferry Avenue', 'Kelmastead', '00521');
INSERT INTO sites (id, name, street, town, postcode) VALUES (14, 'Care home Dunvaholt', '3 Ropewalk Lane', 'Dunvaholt', '00348');
INSERT INTO sites (id, name, street, town, postcode) VALUES (15, 'Optician Haskawick', '30 Gannet Street', 'Haskawick', '00389');
INSERT INTO sites (id, name, street, town, postcode) VALUES (16, 'Day centre Nymrberga', '26 Vestry Rise', 'Nymrberga', '00101');
INSERT INTO sites (id, name, street, town, postcode) VALUES (17, 'Day centre Quilinvík', '29 Sævik Lane', 'Quilinvík', '00243');
INSERT INTO sites (id, name, street, town, postcode) VALUES (18, 'Care home Nymrolô', '10 Upper Steps', 'Nymrolô', '00261');
INSERT INTO sites (id, name, street, town, postcode) VALUES (19, 'Day centre Ørlesund', '18 Granary Avenue', 'Ørlesund', '00219');
INSERT INTO sites (id, name, street, town, postcode) VALUES (20, 'Dentist Marrtarn', '8 Cooper Lane', 'Marrtarn', '00544');
INSERT INTO sites (id, name, street, town, postcode) VALUES (21, 'Pharmacy Ørlesund', '21 Thistle Terrace', 'Ørlesund', '00207');
INSERT INTO sites (id, name, street, town, postcode) VALUES (22, 'Optician Dunvaholt', '23 Dyer Steps', 'Dunvaholt', '00348');
INSERT INTO sites (id, name, street, town, postcode) VALUES (23, 'Pharmacy Ørlesund', '28 Thistle Terrace', 'Ørlesund', '00207');
INSERT INTO sites (id, name, street, town, postcode) VALUES (24, 'Pharmacy Haskawick', '21 Ørlun Steps', 'Haskawick', '00389');
INSERT INTO sites (id, name, street, town, postcode) VALUES (25, 'Dentist Nymrolô', '7 Cooper Street', 'Nymrolô', '00261');
INSERT INTO sites (id, name, street, town, postcode) VALUES (26, 'Optician Nymrberga', '27 Ørlun Row', 'Nymrberga', '00101');
INSERT INTO sites (id, name, street, town, postcode) VALUES (27, 'Care home Marrtarn', '25 Gannet Street', 'Marrtarn', '00557');
INSERT INTO sites (id, name, street, town, postcode) VALUES (28, 'Pharmacy Nymrolô', '1 Quay Road', 'Nymrolô', '00272');
INSERT INTO sites (id, name, street, town, postcode) VALUES (29, 'Pharmacy Dunvaholt', '12 Nettle Street', 'Dunvaholt', '00338');
INSERT INTO sites (id, name, street, town, postcode) VALUES (30, 'Dentist Nymrolô', '32 Pilot Avenue', 'Nymrolô', '00272');
INSERT INTO sites (id, name, street, town, postcode) VALUES (31, 'Pharmacy Marrmærk', '27 Driftwood Rise', 'Marrmærk', '00414');
INSERT INTO sites (id, name, street, town, postcode) VALUES (32, 'Optician Quilinvík', '25 Cooper Street', 'Quilinvík', '00233');
INSERT INTO sites (id, name, street, town, postcode) VALUES (33, 'Care home Kelmeholt', '10 Saltpan Road', 'Kelmeholt', '00454');
INSERT INTO sites (id, name, street, town, postcode) VALUES (34, 'Optician Ørlesund', '18 Lobster Steps', 'Ørlesund', '00219');
INSERT INTO sites (id, name, street, town, postcode) VALUES (35, 'Day centre Haskawick', '31 Jetty Steps', 'Haskawick', '00389');
INSERT INTO sites (id, name, street, town, postcode) VALUES (36, 'Dentist Jorvmere', '9 Weaver Row', 'Jorvmere', '00140');
INSERT INTO sites (id, name, street, town, postcode) VALUES (37, 'Day centre Dunvaholt', '28 Ferry Rise', 'Dunvaholt', '00338');
INSERT INTO sites (id, name, street, town, postcode) VALUES (38, 'Day centre Jorvmere', '23 Beacon Steps', 'Jorvmere', '00140');
INSERT INTO sites (id, name, street, town, postcode) VALUES (39, 'Surgery Kelmastead', '12 Cormorant Terrace', 'Kelmastead', '00533');
INSERT INTO sites (id, name, street, town, postcode) VALUES (40, 'Dentist Dunvinstead', '32 Thistle Lane', 'Dunvinstead', '00191');
INSERT INTO sites (id, name, street, town, postcode) VALUES (41, 'Pharmacy Kelmeholt', '11 Dyer Terrace', 'Kelmeholt', '00454');
INSERT INTO sites (id, name, street, town, postcode) VALUES (42, 'Surgery Jorvmere', '20 Barley Rise', 'Jorvmere', '00140');
INSERT INTO sites (id, name, street, town, postcode) VALUES (43, 'Day centre Quilnessa', '32 Thistle Row', 'Quilnessa', '00482');
INSERT INTO sites (id, name, street, town, postcode) VALUES (44, 'Care home Skelinstead', '10 Tarrock Terrace', 'Skelinstead', '00170');
INSERT INTO sites (id, name, street, town, postcode) VALUES (45, 'Surgery Kelmastead', '22 Turbine Steps', 'Kelmastead', '00533');
INSERT INTO sites (id, name, street, town, postcode) VALUES (46, 'Optician Pellefjara', '29 Cormorant Steps', 'Pellefjara', '00285');
INSERT INTO sites (id, name, street, town, postcode) VALUES (47, 'Dentist Pellefjara', '19 Tanner Avenue', 'Pellefjara', '00298');
INSERT INTO sites (id, name, street, town, postcode) VALUES (48, 'Dentist Nymrberga', '6 Chandler Rise', 'Nymrberga', '00101');
UPDATE sites SET lat = 47.33565, lon = -28.90239 WHERE id = 7;
UPDATE sites SET lat = 47.50107, lon = -29.03755 WHERE id = 19;
UPDATE sites SET lat = 47.2164, lon = -28.92099 WHERE id = 31;
UPDATE sites SET closed_on = '2026-06-30' WHERE id = 40;
