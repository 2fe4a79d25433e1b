BEGIN TRANSACTION;
CREATE TABLE candidates (
	reply_id INTEGER NOT NULL, 
	reading_key TEXT NOT NULL, 
	found TEXT NOT NULL, 
	PRIMARY KEY (reply_id, reading_key)
);
INSERT INTO "candidates" VALUES(5,'e1174dd8bb72ff3af8050da29762ab89','[{"position": {"lat": 47.256092, "lon": -28.847932}, "level": "address area", "method": "centre", "label": "Dunvaholt, Svelound, Brænadûn Isles", "parts": {"town": "Dunvaholt", "region": "Svelound", "country": "Brænadûn Isles", "country_code": "XT"}, "box": {"west": -28.857249, "south": 47.249797, "east": -28.838615, "north": 47.262387}}, {"position": {"lat": 47.616101, "lon": -27.831506}, "level": "address area", "method": "centre", "label": "Dunvaholt, Haskalô, Greater Thørnessa", "parts": {"town": "Dunvaholt", "region": "Haskalô", "country": "Greater Thørnessa", "country_code": "QO"}, "box": {"west": -27.840823, "south": 47.609806, "east": -27.822189, "north": 47.622396}}]');
INSERT INTO "candidates" VALUES(2,'e1174dd8bb72ff3af8050da29762ab89','[{"position": {"lat": 47.502991, "lon": -29.034877}, "level": "building", "method": "surveyed", "label": "14 Gannet Rise, 00207 Ørlesund, Ijminlô, Brænadûn Isles", "parts": {"number": "14", "street": "Gannet Rise", "town": "Ørlesund", "postcode": "00207", "region": "Ijminlô", "country": "Brænadûn Isles", "country_code": "XT"}, "box": {"west": -29.03493, "south": 47.502955, "east": -29.034824, "north": 47.503027}}]');
INSERT INTO "candidates" VALUES(3,'e1174dd8bb72ff3af8050da29762ab89','[{"position": {"lat": 47.259952, "lon": -28.848664}, "level": "building", "method": "surveyed", "label": "1 Tanner Road, 00338 Dunvaholt, Svelound, Brænadûn Isles", "parts": {"number": "1", "street": "Tanner Road", "town": "Dunvaholt", "postcode": "00338", "region": "Svelound", "country": "Brænadûn Isles", "country_code": "XT"}, "box": {"west": -28.848717, "south": 47.259916, "east": -28.848611, "north": 47.259988}}]');
INSERT INTO "candidates" VALUES(1,'e1174dd8bb72ff3af8050da29762ab89','[{"position": {"lat": 47.720204, "lon": -28.926197}, "level": "building", "method": "surveyed", "label": "1 Ørlun Row, 00101 Nymrberga, Kelmoound, Brænadûn Isles", "parts": {"number": "1", "street": "Ørlun Row", "town": "Nymrberga", "postcode": "00101", "region": "Kelmoound", "country": "Brænadûn Isles", "country_code": "XT"}, "box": {"west": -28.92625, "south": 47.720168, "east": -28.926144, "north": 47.72024}}]');
INSERT INTO "candidates" VALUES(4,'e1174dd8bb72ff3af8050da29762ab89','[{"position": {"lat": 47.129396, "lon": -28.369124}, "level": "building", "method": "surveyed", "label": "33 Ropewalk Rise, 00443 Kelmeholt, Ijmholt, Brænadûn Isles", "parts": {"number": "33", "street": "Ropewalk Rise", "town": "Kelmeholt", "postcode": "00443", "region": "Ijmholt", "country": "Brænadûn Isles", "country_code": "XT"}, "box": {"west": -28.369177, "south": 47.12936, "east": -28.369071, "north": 47.129432}}]');
CREATE TABLE job (
	id INTEGER NOT NULL, 
	path TEXT NOT NULL, 
	composed_by TEXT NOT NULL, 
	judged_by TEXT NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (path)
);
INSERT INTO "job" VALUES(1,'{job}','a61386f5346de8a31172e1c6726f5382','15704cbca6c9430bc93e641b5bf8c6c0:5');
CREATE TABLE last_order (
	job_id INTEGER NOT NULL, 
	n INTEGER NOT NULL, 
	"key" TEXT NOT NULL, 
	PRIMARY KEY (job_id, n)
)
 WITHOUT ROWID

;
INSERT INTO "last_order" VALUES(1,1,'R0');
INSERT INTO "last_order" VALUES(1,2,'R1');
INSERT INTO "last_order" VALUES(1,3,'R2');
INSERT INTO "last_order" VALUES(1,4,'R3');
INSERT INTO "last_order" VALUES(1,5,'R4');
INSERT INTO "last_order" VALUES(1,6,'R5');
INSERT INTO "last_order" VALUES(1,7,'R6');
INSERT INTO "last_order" VALUES(1,8,'R7');
CREATE TABLE last_scan (
	job_id INTEGER NOT NULL, 
	source TEXT NOT NULL, 
	PRIMARY KEY (job_id)
);
INSERT INTO "last_scan" VALUES(1,'b09d7d067bd41548be169d712e563743');
CREATE TABLE pace (
	account TEXT NOT NULL, 
	boot_id TEXT NOT NULL, 
	arrival FLOAT NOT NULL, 
	PRIMARY KEY (account)
);
CREATE TABLE reply (
	id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT, 
	question_key TEXT NOT NULL, 
	service TEXT NOT NULL, 
	request_id INTEGER NOT NULL, 
	run_id INTEGER NOT NULL, 
	kind TEXT NOT NULL, 
	status INTEGER NOT NULL, 
	message TEXT NOT NULL, 
	body BLOB NOT NULL, 
	received_at TEXT NOT NULL, 
	UNIQUE (question_key), 
	FOREIGN KEY(request_id) REFERENCES request (id), 
	FOREIGN KEY(run_id) REFERENCES run (id)
);
INSERT INTO "reply" VALUES(1,'75374bc55bfd0b75ff0f9ba46358d9fb','stand-in',1,1,'answered',200,'',X'480D6D50CB6AC33010FC95652F6DC109B671F33AF6560AA5941E0AA114C5DA24025B0A2BA5210DFE8F7E417FA247FF58B5AA492E3D6999D1CEECCC093F88B5A9032E00D76E6F356680BB46D5E423B43CE1C1B196110BE8BFB8D95B7876870CF2BCC80B783CB6BC22DEA80C1EA8699D086470C7FDB755BAFFB170EF9B2824924CB5F1C65991D2CEB1807EE7C4F884D671D8C6A99A8EA7655EE6552449792147E56C3C2F27C57CDA4570CDAAA5882E07B8BCCD86A56232CBCE9FAB283068556F716D65826410A3F86021E6077594F9122A5D442134D4924D859CE3A5042EDD8329B900DAF8C04375E7F442581586A0FF35F1C7BED74E4B107C7DC1AE931B6B266D92ED53AA7F01614BE083B27A64EC95878DFA8CD711315CB74A13EC7737D8FD029F6B8957','2026-11-25T12:27:51.959+00:00');
INSERT INTO "reply" VALUES(2,'4fb9c45083dd6c160fb2e61b6bf3d77f','stand-in',2,1,'answered',200,'',X'480D6D91C14EC3300C865FC5CA0590B2296B3B95EEC805ED861007A409A1D0782CA84DAA246382AAEFC113F004DC38F6C588433771E014E777ECDF9FD3B357744AD781AD806DEDDE28C681758DACD14769D3B383758A42B628E05A1A83016EB5470E4264A284F1C335E8631D87F54BAB4D337E71B872E3A7916AFC36B0F6319D7A3AACB5D7D6502F65AD23D177969C7B66AC0BBB1815E57C29B2AA5AC4244A4FC95956CD455E5C96E510C5AD932D467533C955CE8F45CB253F3DCE8A49CE45563EC4BA271D88829CE21161C8FE20DFE8F2072B0D852134D8A2494B390126089B4662899D04A57D70D3FA8EFCA41B1926D4FF76F19B7DACAD2214767FC7868186AC1D2A9D5C6FD20FAC20EC107C9046CDB439F3F02CDFE370880ECE5BA910F6DD051B7E00AF9F8AF2','2026-11-25T12:27:51.959+00:00');
INSERT INTO "reply" VALUES(3,'59c432679efb51ff40454b3c7b6cd703','stand-in',3,1,'answered',200,'',X'480D6D51CB4EC33010FC95D55E0029ADEAF495F688B87043D00352859089B7C4526247B69B0AAAFC0E3FC1B13F86D7B411074E5ECD787766768FD89153BA0CB806DCD9BD519801B6B52CC947687BC483758A4B14B091C69083472B550693C9745AC0DDDE74B2B275C8E0A9A39A076470EB4E5F46AAD3B7817B5FC7413CD251A9BDB68647296B1D83BEB52C7C44635DA862355B8EF3F96A35CF2349D23339CA8B71312B168B591FC19D930D45747B869762995DBAC4221B7E0B31C045F1121BDF74E0142C151F142C7F901F5CFF89954C5108353564D24E86804CB53659C2949D01A57D70E7ED5DF2336E643847FD6F17BFEC6B691547C1E70DF63D7B2C1D299D541FD201D6102A021FA451236DAE3CBCCBCF688EE20DAE1BA908F6ED0DF63F2D8088A5','2026-11-25T12:27:51.959+00:00');
INSERT INTO "reply" VALUES(4,'9a857493c26b7dbb2b14c1a70d876f71','stand-in',4,1,'answered',200,'',X'480D6D91C14AC43010865F65C84585EED236656BF7E86DF1228B07611189CDAC8DB64949B22E5AFA3ABE84C77D3133D956103C75FA0D33FFFF4F06F68E56AADAB335B0BD3968C912607D2B6A7401ED0676345652C93887ADE9F128DA37D82A8709A4695170B8C5B6C3C6B43E81CD6B772E6EECE94B0B79FAD6B0716D58454B2DD6CA29A3699934C61274BD21E98169637D13AAA25C6679C5AB5568A270D45CE4D74BBEAAB2BC1803DC5BD161A0BB199765324F85A189A66536D382E78F61EE59798A414AE113D290FC517CD0CF9F5CD1167ADF62873ADEE537618C61A22916C31390CA793B5D703A00612DFC94F5BF639CBB4FB59194853DDCB3712497B545A9A2E85D7C8335F806C179A1E542E90B072FE2337843B470D9098970E8AFD8F803AE4D896B','2026-11-25T12:27:51.959+00:00');
INSERT INTO "reply" VALUES(5,'49ffed393324b715b88d78308a7d7eed','stand-in',5,1,'answered',200,'',X'480D9D92D14AC33014865F25E446856EB4699BA6BB1441BD5271178288C4E6CC16BB7424D904CB5EC727F042F0B22FE649BBC91CBBD1BBF09FFC9CFFFF382D5D815155E1E884D059B3D48A06842E6A598045E9BEA5AF8D51FE49CF967A25CBA67601B95D41EDFF06E4D474EF5AAAEE4B934B5BA3C7BB0D1495AD1AED5D169CAB610EDAF9915D347E534B75635C89AF241BB3948739C32148EB872326C622C9F298AD519C19390754EF7B39CD589207BD2BC9B33C0B86DFB1E0513AC89CC5227B40E353E57CEC7637C16E0B1F4755D6994DF96D27AF6BE936F10FF51BA68F45A37C307A37A56B4C7A98D485B42FB2EE3E02726E403A30645A769F4683B5D26FFA232B1EF1288CD0F7C32A1B8B384A43BEC70AE524142CEEA1205F1172CF0A65C6223120E48CC539FF0FAB6DABDFAC0E37DCA3757385B4FCCEC280AAFAB3BBEEAF6D425C09C43AA9D5A8D247963CCB37BC1D4064C773A9802C172774FD0D876AD586','2026-11-25T12:27:51.959+00:00');
CREATE TABLE request (
	id INTEGER NOT NULL, 
	run_id INTEGER NOT NULL, 
	question_key TEXT NOT NULL, 
	account TEXT NOT NULL, 
	attempt INTEGER NOT NULL, 
	state TEXT NOT NULL, 
	kind TEXT NOT NULL, 
	units INTEGER NOT NULL, 
	reserved_at TEXT NOT NULL, 
	settled_at TEXT, 
	PRIMARY KEY (id), 
	FOREIGN KEY(run_id) REFERENCES run (id)
);
INSERT INTO "request" VALUES(1,1,'75374bc55bfd0b75ff0f9ba46358d9fb','stand-in',1,'answered','answered',1,'2026-11-25T12:27:51.943+00:00','2026-11-25T12:27:51.959+00:00');
INSERT INTO "request" VALUES(2,1,'4fb9c45083dd6c160fb2e61b6bf3d77f','stand-in',1,'answered','answered',1,'2026-11-25T12:27:51.943+00:00','2026-11-25T12:27:51.959+00:00');
INSERT INTO "request" VALUES(3,1,'59c432679efb51ff40454b3c7b6cd703','stand-in',1,'answered','answered',1,'2026-11-25T12:27:51.943+00:00','2026-11-25T12:27:51.959+00:00');
INSERT INTO "request" VALUES(4,1,'9a857493c26b7dbb2b14c1a70d876f71','stand-in',1,'answered','answered',1,'2026-11-25T12:27:51.943+00:00','2026-11-25T12:27:51.959+00:00');
INSERT INTO "request" VALUES(5,1,'49ffed393324b715b88d78308a7d7eed','stand-in',1,'answered','answered',1,'2026-11-25T12:27:51.943+00:00','2026-11-25T12:27:51.959+00:00');
CREATE TABLE run (
	id INTEGER NOT NULL, 
	job_id INTEGER NOT NULL, 
	started_at TEXT NOT NULL, 
	ended_at TEXT, 
	PRIMARY KEY (id), 
	FOREIGN KEY(job_id) REFERENCES job (id)
);
INSERT INTO "run" VALUES(1,1,'2026-11-25T12:27:51.619+00:00','2026-11-25T12:27:51.988+00:00');
CREATE TABLE window_use (
	account TEXT NOT NULL, 
	window TEXT NOT NULL, 
	start TEXT NOT NULL, 
	used INTEGER NOT NULL, 
	PRIMARY KEY (account, window, start)
);
INSERT INTO "window_use" VALUES('stand-in','day','2026-11-25T00:00:00.000+00:00',5);
CREATE TABLE work (
	job_id INTEGER NOT NULL, 
	"key" TEXT NOT NULL, 
	raw_hash TEXT NOT NULL, 
	held TEXT, 
	held_hash TEXT NOT NULL, 
	state TEXT NOT NULL, 
	address TEXT NOT NULL, 
	address_key TEXT NOT NULL, 
	question_key TEXT, 
	outcome TEXT, 
	lat FLOAT, 
	lon FLOAT, 
	confidence FLOAT, 
	basis TEXT NOT NULL, 
	level TEXT NOT NULL, 
	matched TEXT NOT NULL, 
	reasons TEXT NOT NULL, 
	reply_id INTEGER, 
	judged_by TEXT, 
	written TEXT, 
	PRIMARY KEY (job_id, "key")
)
 WITHOUT ROWID

;
INSERT INTO "work" VALUES(1,'R0','67f1bb75123001f287084408d4e7a98a',NULL,'67f1bb75123001f287084408d4e7a98a','ask','{"street": "1 Ørlun Row", "town": "Nymrberga", "postcode": "00101", "country": "XT"}','1 ørlun rownymrberga00101xt','75374bc55bfd0b75ff0f9ba46358d9fb','placed',47.720204,-28.926197,0.98,'estimate','building','1 Ørlun Row, 00101 Nymrberga, Kelmoound, Brænadûn Isles','["the point stands for a building", "house number agrees", "street agrees", "town agrees", "postcode agrees"]',1,'15704cbca6c9430bc93e641b5bf8c6c0','47.720204,-28.926197');
INSERT INTO "work" VALUES(1,'R1','dfcac75ba8a99186dc32a083c61fe298',NULL,'dfcac75ba8a99186dc32a083c61fe298','ask','{"street": "14 Gannet Rise", "town": "Ørlesund", "postcode": "00207", "country": "XT"}','14 gannet riseørlesund00207xt','4fb9c45083dd6c160fb2e61b6bf3d77f','placed',47.502991,-29.034877,0.98,'estimate','building','14 Gannet Rise, 00207 Ørlesund, Ijminlô, Brænadûn Isles','["the point stands for a building", "house number agrees", "street agrees", "town agrees", "postcode agrees"]',2,'15704cbca6c9430bc93e641b5bf8c6c0','47.502991,-29.034877');
INSERT INTO "work" VALUES(1,'R2','9994b7338140cd83351210a77972d605',NULL,'9994b7338140cd83351210a77972d605','ask','{"street": "1 Tanner Road", "town": "Dunvaholt", "postcode": "00338", "country": "XT"}','1 tanner roaddunvaholt00338xt','59c432679efb51ff40454b3c7b6cd703','placed',47.259952,-28.848664,0.98,'estimate','building','1 Tanner Road, 00338 Dunvaholt, Svelound, Brænadûn Isles','["the point stands for a building", "house number agrees", "street agrees", "town agrees", "postcode agrees"]',3,'15704cbca6c9430bc93e641b5bf8c6c0','47.259952,-28.848664');
INSERT INTO "work" VALUES(1,'R3','74c4cf1c3ca63eabe7670ed076dfaa75',NULL,'74c4cf1c3ca63eabe7670ed076dfaa75','ask','{"street": "33 Ropewalk Rise", "town": "Kelmeholt", "postcode": "00443", "country": "XT"}','33 ropewalk risekelmeholt00443xt','9a857493c26b7dbb2b14c1a70d876f71','placed',47.129396,-28.369124,0.98,'estimate','building','33 Ropewalk Rise, 00443 Kelmeholt, Ijmholt, Brænadûn Isles','["the point stands for a building", "house number agrees", "street agrees", "town agrees", "postcode agrees"]',4,'15704cbca6c9430bc93e641b5bf8c6c0','47.129396,-28.369124');
INSERT INTO "work" VALUES(1,'R4','67f1bb75123001f287084408d4e7a98a',NULL,'67f1bb75123001f287084408d4e7a98a','ask','{"street": "1 Ørlun Row", "town": "Nymrberga", "postcode": "00101", "country": "XT"}','1 ørlun rownymrberga00101xt','75374bc55bfd0b75ff0f9ba46358d9fb','placed',47.720204,-28.926197,0.98,'estimate','building','1 Ørlun Row, 00101 Nymrberga, Kelmoound, Brænadûn Isles','["the point stands for a building", "house number agrees", "street agrees", "town agrees", "postcode agrees"]',1,'15704cbca6c9430bc93e641b5bf8c6c0','47.720204,-28.926197');
INSERT INTO "work" VALUES(1,'R5','81698905d27d2a65fbae3e2b20572a4e',NULL,'81698905d27d2a65fbae3e2b20572a4e','incomplete','{"town": "Nowhere", "country": "XT"}','nowherext',NULL,'incomplete',NULL,NULL,NULL,'','','','["street missing"]',NULL,NULL,NULL);
INSERT INTO "work" VALUES(1,'R6','dfcac75ba8a99186dc32a083c61fe298','47.500000,-28.500000','dfcac75ba8a99186dc32a083c61fe298','kept','{"street": "14 Gannet Rise", "town": "Ørlesund", "postcode": "00207", "country": "XT"}','14 gannet riseørlesund00207xt',NULL,'kept',47.5,-28.5,NULL,'','','','["has coordinates of its own"]',NULL,NULL,NULL);
INSERT INTO "work" VALUES(1,'R7','4dc58153208339a113e5a63e02ba9ad0',NULL,'4dc58153208339a113e5a63e02ba9ad0','ask','{"street": "9 No Such Street", "town": "Dunvaholt", "country": "XT"}','9 no such streetdunvaholtxt','49ffed393324b715b88d78308a7d7eed','doubtful',47.256092,-28.847932,0.009,'estimate','address area','Dunvaholt, Svelound, Brænadûn Isles','["the point stands for an address area, up to 1.5 km away", "the house number is not confirmed", "the street is not confirmed", "town agrees"]',5,'15704cbca6c9430bc93e641b5bf8c6c0',NULL);
CREATE INDEX work_question ON work (job_id, question_key);
CREATE INDEX request_open ON request (run_id) WHERE state = 'reserved';
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('reply',5);
COMMIT;
