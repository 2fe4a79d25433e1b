INSERT INTO sites (id, name, street, town, postcode) VALUES (49, 'Dentist Nymrberga', '27 Beacon Street', 'Nymrberga', '00117');
INSERT INTO sites (id, name, street, town, postcode) VALUES (50, 'Pharmacy Zhelberga', '23 Chandler Lane', 'Zhelberga', '00360');
UPDATE sites SET street = '18 Puffin Terrace', town = 'Quilinvík', postcode = '00233' WHERE id = 22;
UPDATE sites SET street = '7 COOPER STREET' WHERE id = 25;
UPDATE sites SET closed_on = '2026-11-01' WHERE id = 33;
DELETE FROM sites WHERE id = 44;
