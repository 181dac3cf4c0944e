PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE answers (
	entry INTEGER NOT NULL, 
	kind VARCHAR NOT NULL, 
	status INTEGER NOT NULL, 
	destination TEXT NOT NULL, 
	"query" VARCHAR NOT NULL, 
	"by" VARCHAR NOT NULL, 
	old TEXT NOT NULL, 
	host_given BOOLEAN NOT NULL, 
	"where" VARCHAR NOT NULL, 
	note TEXT NOT NULL, 
	inherited BOOLEAN NOT NULL, 
	author VARCHAR DEFAULT '' NOT NULL, 
	confidence FLOAT, 
	reasons TEXT DEFAULT '' NOT NULL, 
	runner_up TEXT DEFAULT '' NOT NULL, until VARCHAR NOT NULL DEFAULT '', 
	PRIMARY KEY (entry), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO "answers" VALUES(1,'move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','http://www.quillhaven.example/a.html',0,'pairs2.csv row 2','',0,'ada',NULL,'','','');
INSERT INTO "answers" VALUES(2,'move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','http://www.quillhaven.example/b.html',0,'pairs.csv row 4','',0,'ada',0.994,'has the same title','','');
INSERT INTO "answers" VALUES(3,'gone',410,'','carry-tracking','import','http://www.quillhaven.example/c',0,'pairs.csv row 3','',0,'ada',NULL,'','','');
INSERT INTO "answers" VALUES(4,'keep',0,'','carry-tracking','person','http://www.quillhaven.example/old/x/',0,'','',0,'ada',NULL,'','','');
INSERT INTO "answers" VALUES(5,'move',301,'https://www.quillhaven.example/things/1/','carry-tracking','match','http://www.quillhaven.example/shop/item.php?id=1',1,'','',0,'ada',0.999,'has the same title; has the same words in its address','','');
CREATE TABLE builds (
	id INTEGER NOT NULL, 
	time VARCHAR NOT NULL, 
	dialect VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	folder TEXT NOT NULL, 
	rules INTEGER NOT NULL, 
	held_back INTEGER NOT NULL, 
	step INTEGER DEFAULT '0' NOT NULL, 
	handed_over VARCHAR DEFAULT '' NOT NULL, 
	live_from VARCHAR NOT NULL, wave VARCHAR NOT NULL DEFAULT '', sections TEXT NOT NULL DEFAULT '', 
	PRIMARY KEY (id)
);
INSERT INTO "builds" VALUES(1,'2026-11-29T14:56:11Z','nginx','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','/srv/rules',3,2,10,'','2026-11-29T14:56:14Z','','');
CREATE TABLE changes (
	step INTEGER NOT NULL, 
	table_name VARCHAR NOT NULL, 
	row_key VARCHAR NOT NULL, 
	"before" JSON, 
	FOREIGN KEY(step) REFERENCES steps (id)
);
INSERT INTO "changes" VALUES(2,'sources','[1]','null');
INSERT INTO "changes" VALUES(3,'sources','[2]','null');
INSERT INTO "changes" VALUES(4,'sources','[3]','null');
INSERT INTO "changes" VALUES(5,'answers','[1]','null');
INSERT INTO "changes" VALUES(5,'answers','[2]','null');
INSERT INTO "changes" VALUES(5,'answers','[5]','null');
INSERT INTO "changes" VALUES(6,'sources','[4]','null');
INSERT INTO "changes" VALUES(6,'answers','[1]','{"entry": 1, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/alpha/", "query": "carry-tracking", "by": "match", "old": "http://www.quillhaven.example/a.html", "host_given": true, "where": "", "note": "", "inherited": false, "author": "ada", "confidence": 0.992, "reasons": "has the same title", "runner_up": ""}');
INSERT INTO "changes" VALUES(6,'answers','[3]','null');
INSERT INTO "changes" VALUES(6,'answers','[2]','{"entry": 2, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/beta/", "query": "carry-tracking", "by": "match", "old": "http://www.quillhaven.example/b.html", "host_given": true, "where": "", "note": "", "inherited": false, "author": "ada", "confidence": 0.994, "reasons": "has the same title", "runner_up": ""}');
INSERT INTO "changes" VALUES(6,'claims','[2, 1]','null');
INSERT INTO "changes" VALUES(7,'sources','[5]','null');
INSERT INTO "changes" VALUES(7,'answers','[1]','{"entry": 1, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/alpha/", "query": "carry-tracking", "by": "import", "old": "http://www.quillhaven.example/a.html", "host_given": false, "where": "pairs.csv row 2", "note": "", "inherited": false, "author": "ada", "confidence": 0.992, "reasons": "has the same title", "runner_up": ""}');
INSERT INTO "changes" VALUES(8,'answers','[4]','null');
INSERT INTO "changes" VALUES(9,'templates','[1]','null');
INSERT INTO "changes" VALUES(10,'templates','[1]','{"id": 1, "site": "quillhaven.example", "source": "/shop/{name}.php", "status": 301, "destination": "https://www.quillhaven.example/things/{name}/", "query": "carry-tracking", "by": "person", "where": ""}');
INSERT INTO "changes" VALUES(10,'steps','[9]','{"undone_by": null}');
CREATE TABLE claims (
	entry INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	status INTEGER NOT NULL, 
	destination TEXT NOT NULL, 
	old TEXT NOT NULL, 
	host_given BOOLEAN NOT NULL, 
	"where" VARCHAR NOT NULL, 
	PRIMARY KEY (entry, number), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO "claims" VALUES(2,1,301,'https://www.quillhaven.example/alpha/','http://www.quillhaven.example/B.html',0,'pairs.csv row 5');
CREATE TABLE destinations (
	source INTEGER NOT NULL, 
	page TEXT NOT NULL, 
	url TEXT NOT NULL, 
	status INTEGER NOT NULL, 
	title TEXT NOT NULL, 
	heading TEXT NOT NULL, 
	description TEXT NOT NULL, 
	canonical TEXT NOT NULL, 
	indexable VARCHAR NOT NULL, 
	language VARCHAR NOT NULL, 
	redirects_to TEXT NOT NULL, 
	state VARCHAR NOT NULL, 
	section TEXT DEFAULT '' NOT NULL, 
	item TEXT DEFAULT '' NOT NULL, 
	CONSTRAINT destinations_by_page UNIQUE (source, page), 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO "destinations" VALUES(3,'https://www.quillhaven.example/alpha/','https://www.quillhaven.example/alpha/',200,'Alpha page','','','','','','','live','','');
INSERT INTO "destinations" VALUES(3,'https://www.quillhaven.example/beta/','https://www.quillhaven.example/beta/',200,'Beta page','','','','','','','live','','');
INSERT INTO "destinations" VALUES(3,'https://www.quillhaven.example/things/1/','https://www.quillhaven.example/things/1/',200,'One thing','','','','','','','live','','');
INSERT INTO "destinations" VALUES(3,'https://www.quillhaven.example/','https://www.quillhaven.example/',200,'Home','','','','','','','live','','');
CREATE TABLE entries (
	id INTEGER NOT NULL, 
	site VARCHAR NOT NULL, 
	"key" TEXT NOT NULL, 
	policy INTEGER NOT NULL, 
	legacy_url TEXT NOT NULL, 
	PRIMARY KEY (id), 
	CONSTRAINT entries_by_key UNIQUE (site, "key"), 
	FOREIGN KEY(policy) REFERENCES policies (number)
);
INSERT INTO "entries" VALUES(1,'quillhaven.example','/a.html',1,'http://www.quillhaven.example/a.html');
INSERT INTO "entries" VALUES(2,'quillhaven.example','/b.html',1,'http://www.quillhaven.example/b.html');
INSERT INTO "entries" VALUES(3,'quillhaven.example','/c',1,'http://www.quillhaven.example/c');
INSERT INTO "entries" VALUES(4,'quillhaven.example','/old/x',1,'http://www.quillhaven.example/old/x/');
INSERT INTO "entries" VALUES(5,'quillhaven.example','/shop/item.php?id=1',1,'http://www.quillhaven.example/shop/item.php?id=1');
INSERT INTO "entries" VALUES(6,'quillhaven.example','/shop/item.php?id=2',1,'http://www.quillhaven.example/shop/item.php?id=2');
INSERT INTO "entries" VALUES(7,'quillhaven.example','/missing/03',1,'http://www.quillhaven.example/missing/03');
INSERT INTO "entries" VALUES(8,'quillhaven.example','/missing/04',1,'http://www.quillhaven.example/missing/04');
INSERT INTO "entries" VALUES(9,'quillhaven.example','/missing/05',1,'http://www.quillhaven.example/missing/05');
CREATE TABLE entry_lines (entry INTEGER NOT NULL, site VARCHAR NOT NULL, url TEXT NOT NULL, section VARCHAR NOT NULL, family TEXT NOT NULL, value FLOAT NOT NULL, hits FLOAT NOT NULL, bots FLOAT NOT NULL, visits FLOAT NOT NULL, clicks FLOAT NOT NULL, impressions FLOAT NOT NULL, links FLOAT NOT NULL, logged FLOAT NOT NULL, traffic FLOAT NOT NULL, domains FLOAT NOT NULL, pages FLOAT NOT NULL, shown FLOAT NOT NULL, variants INTEGER NOT NULL, sources VARCHAR NOT NULL, first_seen VARCHAR NOT NULL, last_seen VARCHAR NOT NULL, statuses VARCHAR NOT NULL, title TEXT NOT NULL, language VARCHAR NOT NULL, kind VARCHAR NOT NULL, status INTEGER NOT NULL, destination TEXT NOT NULL, "query" VARCHAR NOT NULL, "by" VARCHAR NOT NULL, "where" VARCHAR NOT NULL, PRIMARY KEY (entry), FOREIGN KEY(entry) REFERENCES entries (id));
INSERT INTO "entry_lines" VALUES(1,'quillhaven.example','http://www.quillhaven.example/a.html','','',60.0,6.0,0.0,0.0,0.0,0.0,0.0,6.0,5.0,0.0,0.0,0.0,1,'|1|2|4|5|','2026-05-03','2026-05-05','|2xx:3.0|404:3.0|','Alpha page','','move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','pairs2.csv row 2');
INSERT INTO "entry_lines" VALUES(2,'quillhaven.example','http://www.quillhaven.example/b.html','','',60.0,6.0,0.0,0.0,0.0,0.0,0.0,6.0,3.0,0.0,0.0,0.0,2,'|1|2|4|','2026-05-03','2026-05-05','|2xx:3.0|404:3.0|','Beta page','','move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','pairs.csv row 4');
INSERT INTO "entry_lines" VALUES(3,'quillhaven.example','http://www.quillhaven.example/c','','',1.0,1.0,0.0,0.0,0.0,0.0,0.0,0.0,1.0,0.0,0.0,0.0,1,'|1|4|','','','','','','gone',410,'','carry-tracking','import','pairs.csv row 3');
INSERT INTO "entry_lines" VALUES(4,'quillhaven.example','http://www.quillhaven.example/old/x/','','',9.0,9.0,0.0,0.0,0.0,0.0,0.0,0.0,9.0,0.0,0.0,0.0,1,'|1|','','','','Xray','','keep',0,'','carry-tracking','person','');
INSERT INTO "entry_lines" VALUES(5,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=1','','',2.0,2.0,0.0,0.0,0.0,0.0,0.0,0.0,2.0,0.0,0.0,0.0,1,'|1|','','','','One thing','','move',301,'https://www.quillhaven.example/things/1/','carry-tracking','match','');
INSERT INTO "entry_lines" VALUES(6,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=2','','',2.0,2.0,0.0,0.0,0.0,0.0,0.0,0.0,2.0,0.0,0.0,0.0,1,'|1|','','','','Two things','','open',0,'','carry-tracking','','');
INSERT INTO "entry_lines" VALUES(7,'quillhaven.example','http://www.quillhaven.example/missing/03','','/missing/{number}',20.0,2.0,0.0,0.0,0.0,0.0,0.0,2.0,0.0,0.0,0.0,0.0,1,'|2|','2026-05-03','2026-05-03','|2xx:1.0|404:1.0|','','','open',0,'','carry-tracking','','');
INSERT INTO "entry_lines" VALUES(8,'quillhaven.example','http://www.quillhaven.example/missing/04','','/missing/{number}',20.0,2.0,0.0,0.0,0.0,0.0,0.0,2.0,0.0,0.0,0.0,0.0,1,'|2|','2026-05-04','2026-05-04','|2xx:1.0|404:1.0|','','','open',0,'','carry-tracking','','');
INSERT INTO "entry_lines" VALUES(9,'quillhaven.example','http://www.quillhaven.example/missing/05','','/missing/{number}',20.0,2.0,0.0,0.0,0.0,0.0,0.0,2.0,0.0,0.0,0.0,0.0,1,'|2|','2026-05-05','2026-05-05','|2xx:1.0|404:1.0|','','','open',0,'','carry-tracking','','');
CREATE TABLE evidence (
	spelling INTEGER NOT NULL, 
	source INTEGER NOT NULL, 
	unit VARCHAR NOT NULL, 
	status_class VARCHAR NOT NULL, 
	agent VARCHAR NOT NULL, 
	amount FLOAT NOT NULL, 
	first_day VARCHAR NOT NULL, 
	last_day VARCHAR NOT NULL, 
	days TEXT NOT NULL, 
	FOREIGN KEY(spelling) REFERENCES spellings (id), 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO "evidence" VALUES(1,1,'hits','','',5.0,'','','');
INSERT INTO "evidence" VALUES(2,1,'hits','','',3.0,'','','');
INSERT INTO "evidence" VALUES(5,1,'hits','','',2.0,'','','');
INSERT INTO "evidence" VALUES(6,1,'hits','','',2.0,'','','');
INSERT INTO "evidence" VALUES(4,1,'hits','','',9.0,'','','');
INSERT INTO "evidence" VALUES(3,1,'hits','','',1.0,'','','');
INSERT INTO "evidence" VALUES(1,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(1,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(2,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(2,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(10,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(10,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(11,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(11,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO "evidence" VALUES(7,2,'hits','2xx','people',1.0,'2026-05-03','2026-05-03','2026-05-03:1');
INSERT INTO "evidence" VALUES(7,2,'hits','404','people',1.0,'2026-05-03','2026-05-03','2026-05-03:1');
INSERT INTO "evidence" VALUES(8,2,'hits','2xx','people',1.0,'2026-05-04','2026-05-04','2026-05-04:1');
INSERT INTO "evidence" VALUES(8,2,'hits','404','people',1.0,'2026-05-04','2026-05-04','2026-05-04:1');
INSERT INTO "evidence" VALUES(9,2,'hits','2xx','people',1.0,'2026-05-05','2026-05-05','2026-05-05:1');
INSERT INTO "evidence" VALUES(9,2,'hits','404','people',1.0,'2026-05-05','2026-05-05','2026-05-05:1');
INSERT INTO "evidence" VALUES(1,4,'listed','','',1.0,'','','');
INSERT INTO "evidence" VALUES(3,4,'listed','','',1.0,'','','');
INSERT INTO "evidence" VALUES(2,4,'listed','','',1.0,'','','');
INSERT INTO "evidence" VALUES(12,4,'listed','','',1.0,'','','');
INSERT INTO "evidence" VALUES(1,5,'listed','','',1.0,'','','');
CREATE TABLE followed (
	head VARCHAR NOT NULL, 
	place VARCHAR NOT NULL, 
	name TEXT NOT NULL, 
	read INTEGER NOT NULL, 
	tail VARCHAR NOT NULL, 
	source INTEGER NOT NULL, 
	time VARCHAR NOT NULL, 
	PRIMARY KEY (head)
);
INSERT INTO "followed" VALUES('158dad9791863daf487d0c1e6c26c8d6','65024:2589033','/srv.log',3684,'171b4438053222320b5903d83cbdb0eb',5,'2026-11-29T14:56:15Z');
CREATE TABLE imported (
	source INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	rule JSON NOT NULL, 
	FOREIGN KEY(source) REFERENCES sources (id)
);
CREATE TABLE kept (name VARCHAR NOT NULL, step INTEGER NOT NULL, value JSON NOT NULL, PRIMARY KEY (name));
INSERT INTO "kept" VALUES('check',10,'{"faults": 1, "digest": "9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61", "settings": "e99b385d59bb76f9f7011cab273fe571"}');
INSERT INTO "kept" VALUES('lines',0,'{"settings": "f3666cdf99abeeff7f79ef8c9d527996", "days": 3}');
INSERT INTO "kept" VALUES('totals',0,'{"entries": {"gone": 1, "keep": 1, "move": 3, "open": 4}, "hits": {"gone": 1000000, "keep": 9000000, "move": 14000000, "open": 8000000}, "value": {"gone": 1000000, "keep": 9000000, "move": 122000000, "open": 62000000}, "named": {"1": 6, "2": 5, "4": 3, "5": 1}, "alone": {"1": 3, "2": 3}}');
INSERT INTO "kept" VALUES('stock',0,'{"pages": 4}');
CREATE TABLE lent (entry INTEGER NOT NULL, holder VARCHAR NOT NULL, until VARCHAR NOT NULL, PRIMARY KEY (entry), FOREIGN KEY(entry) REFERENCES entries (id));
CREATE TABLE log_lines (
	source INTEGER NOT NULL, 
	day VARCHAR NOT NULL, 
	method VARCHAR NOT NULL, 
	digests BLOB NOT NULL, 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO "log_lines" VALUES(2,'2026-05-03','xxh3-64',X'8841339A7AFE87C02288ADD2152DD327FBEF4DEACA45C7D30738C5F386644EEE55544A556E13AC189C2D2FC188AD800DB08F3F25F9632A4F960F0366F69EF0140D99052A16433093EAE30C14B6E13CDB');
INSERT INTO "log_lines" VALUES(2,'2026-05-04','xxh3-64',X'BA356F3D3B1A5D9DBC028AE4CF522C8D8092225377B2970941A90CD85AAC1E282426C20F0E82EEFCF529205C5F4AEC5966B618F0CFB4716242337E7E07836282A6F99D529D67DDF1F709A30F5BC6611D');
INSERT INTO "log_lines" VALUES(2,'2026-05-05','xxh3-64',X'0BA4119AC876093B994C8951B16F090B3AF0D8A6F91CF94E9535093FA977FEC7EE7E5B5CE4B05E666DBB2D349F1A25D14B156FC1D03CA54213673F3C550C7D0FF12203B4F26258A389B24A0A129C3590');
CREATE TABLE migrations (
	number INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	applied VARCHAR NOT NULL, 
	PRIMARY KEY (number)
);
INSERT INTO "migrations" VALUES(1,'first schema','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(2,'days and classes','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(3,'items and sections','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(4,'templates','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(6,'traces in blocks','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(7,'handovers','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(8,'following','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(9,'sound logs','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(10,'how answers were found','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(11,'owned runs','2026-11-29T14:56:03+00:00');
INSERT INTO "migrations" VALUES(12,'lines of entries','2026-11-30T00:33:32+00:00');
INSERT INTO "migrations" VALUES(13,'days of answers','2026-11-30T16:00:00+00:00');
INSERT INTO "migrations" VALUES(14,'what is silent','2026-11-30T19:19:40+00:00');
INSERT INTO "migrations" VALUES(15,'waves','2026-11-30T21:49:19+00:00');
INSERT INTO "migrations" VALUES(16,'settings of a team','2026-12-01T04:41:51+00:00');
CREATE TABLE observations (
	spelling INTEGER NOT NULL, 
	source INTEGER NOT NULL, 
	title TEXT NOT NULL, 
	anchor TEXT NOT NULL, 
	language VARCHAR NOT NULL, 
	status INTEGER NOT NULL, 
	last_seen VARCHAR NOT NULL, 
	item TEXT DEFAULT '' NOT NULL, 
	FOREIGN KEY(spelling) REFERENCES spellings (id), 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO "observations" VALUES(1,1,'Alpha page','','',0,'','');
INSERT INTO "observations" VALUES(2,1,'Beta page','','',0,'','');
INSERT INTO "observations" VALUES(5,1,'One thing','','',0,'','');
INSERT INTO "observations" VALUES(6,1,'Two things','','',0,'','');
INSERT INTO "observations" VALUES(4,1,'Xray','','',0,'','');
CREATE TABLE outbox (
	id INTEGER NOT NULL, 
	message VARCHAR NOT NULL, 
	channel VARCHAR NOT NULL, 
	created VARCHAR NOT NULL, 
	subject TEXT NOT NULL, 
	body TEXT NOT NULL, 
	data JSON NOT NULL, 
	sent VARCHAR NOT NULL, 
	PRIMARY KEY (id)
);
CREATE TABLE policies (
	number INTEGER NOT NULL, 
	settings JSON NOT NULL, 
	since VARCHAR NOT NULL, 
	PRIMARY KEY (number)
);
INSERT INTO "policies" VALUES(1,'{"case": "fold", "index_files": ["index.html", "index.htm", "index.shtml", "index.php", "index.asp", "index.aspx", "index.jsp", "index.cfm", "default.htm", "default.html", "default.asp", "default.aspx"], "tracking": ["utm_source", "utm_medium", "utm_campaign", "utm_term", "utm_content", "utm_id", "gclid", "gbraid", "wbraid", "dclid", "msclkid", "fbclid", "ttclid", "twclid", "mc_cid"], "tracking_only_folded": ["mc_eid", "igshid", "yclid", "srsltid", "_ga", "_gl", "epik", "vero_id", "oly_enc_id", "hsctatracking"], "session": ["phpsessid", "jsessionid", "aspsessionid", "sessionid", "session_id", "sid", "cfid", "cftoken", "zenid", "oscsid"], "view_params": ["amp", "print", "printable", "printview", "print_view", "printfriendly", "printer_friendly"], "view_segments": ["amp", "print"], "take_back": [], "secret": [], "no_secret": [], "significant": {}, "version": 4}','2026-11-29T14:56:03Z');
CREATE TABLE proposals (
	step INTEGER NOT NULL, 
	entry INTEGER NOT NULL, 
	rank INTEGER NOT NULL, 
	destination TEXT NOT NULL, 
	confidence FLOAT NOT NULL, 
	reasons JSON NOT NULL, 
	CONSTRAINT proposals_by_entry UNIQUE (step, entry, rank), 
	FOREIGN KEY(step) REFERENCES steps (id), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO "proposals" VALUES(5,1,1,'https://www.quillhaven.example/alpha/',0.992,'["has the same title"]');
INSERT INTO "proposals" VALUES(5,2,1,'https://www.quillhaven.example/beta/',0.994,'["has the same title"]');
INSERT INTO "proposals" VALUES(5,5,1,'https://www.quillhaven.example/things/1/',0.999,'["has the same title", "has the same words in its address"]');
CREATE TABLE referrers (
	spelling INTEGER NOT NULL, 
	source INTEGER NOT NULL, 
	referrers TEXT NOT NULL, 
	FOREIGN KEY(spelling) REFERENCES spellings (id), 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO "referrers" VALUES(1,2,'6 http://blog.example/post');
INSERT INTO "referrers" VALUES(2,2,'6 campaign:http://blog.example/post');
INSERT INTO "referrers" VALUES(10,2,'6 http://blog.example/post');
INSERT INTO "referrers" VALUES(11,2,'6 http://blog.example/post');
INSERT INTO "referrers" VALUES(7,2,'2 http://blog.example/post');
INSERT INTO "referrers" VALUES(8,2,'2 http://blog.example/post');
INSERT INTO "referrers" VALUES(9,2,'2 http://blog.example/post');
CREATE TABLE reported (
	entry INTEGER NOT NULL, 
	state VARCHAR NOT NULL, 
	lost FLOAT NOT NULL, 
	PRIMARY KEY (entry), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO "reported" VALUES(1,'deployed',0.0);
INSERT INTO "reported" VALUES(2,'deployed',0.0);
INSERT INTO "reported" VALUES(7,'new',1.0);
INSERT INTO "reported" VALUES(8,'new',1.0);
INSERT INTO "reported" VALUES(9,'new',1.0);
CREATE TABLE runs (
	id INTEGER NOT NULL, 
	kind VARCHAR NOT NULL, 
	name VARCHAR NOT NULL, 
	started VARCHAR NOT NULL, 
	finished VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	at VARCHAR NOT NULL, 
	counts JSON, 
	owner VARCHAR NOT NULL, 
	held_until VARCHAR NOT NULL, 
	asked VARCHAR NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "runs" VALUES(1,'rehearse','','2026-11-29T14:56:12Z','2026-11-29T14:56:12Z','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','','{"unanswered": 3, "ok": 3}','','','');
INSERT INTO "runs" VALUES(2,'rehearse','','2026-11-29T14:56:13Z','2026-11-29T14:56:13Z','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','','{"unanswered": 4, "ok": 1}','','','');
CREATE TABLE set_aside (
	source INTEGER NOT NULL, 
	kind VARCHAR NOT NULL, 
	text TEXT NOT NULL, 
	lines INTEGER NOT NULL, 
	FOREIGN KEY(source) REFERENCES sources (id)
);
CREATE TABLE shared (number INTEGER NOT NULL, value JSON NOT NULL, PRIMARY KEY (number));
CREATE TABLE silent (name VARCHAR NOT NULL, PRIMARY KEY (name));
CREATE TABLE sources (
	id INTEGER NOT NULL, 
	step INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	kind VARCHAR NOT NULL, 
	purpose VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	head_digest VARCHAR NOT NULL, 
	bytes INTEGER NOT NULL, 
	time VARCHAR NOT NULL, 
	period_start VARCHAR NOT NULL, 
	period_end VARCHAR NOT NULL, 
	mapping JSON, 
	lines INTEGER NOT NULL, 
	accepted INTEGER NOT NULL, 
	set_aside INTEGER NOT NULL, 
	rejected INTEGER NOT NULL, 
	new_entries INTEGER NOT NULL, 
	mended JSON, 
	aside JSON, 
	withdrawn BOOLEAN NOT NULL, 
	asked JSON, 
	PRIMARY KEY (id), 
	FOREIGN KEY(step) REFERENCES steps (id)
);
INSERT INTO "sources" VALUES(1,2,'list.csv','table','gather','43a244cfc1e7c9e1e931a5812f1f2552bcc0e593a688e27a3559b3b908f3e463','',142,'2026-11-29T14:56:04Z','','','{"url": "url", "hits": "hits", "title": "title"}',6,6,0,0,6,'{"trailing slash": 1}','{}',0,'{}');
INSERT INTO "sources" VALUES(2,3,'access.log','access-log','gather','','',0,'2026-11-29T14:56:05Z','2026-05-03','2026-05-05','{}',30,18,12,0,3,'{"tracking parameter": 6}','{"furniture": 6, "probe": 6}',0,'{}');
INSERT INTO "sources" VALUES(3,4,'stock.csv','table','stock','889c281d38285bdee7383a697d9c47b33a4aec7df5fe8e416c54ad38f0571de6','',217,'2026-11-29T14:56:06Z','','','{}',4,4,0,0,0,'{}','{}',0,'{}');
INSERT INTO "sources" VALUES(4,6,'pairs.csv','pairs','pairs','3e1c229e02ec9eda52eb0747512b4e086cd5d4e73d93ec7f08fcb7e5aa282cc2','',82,'2026-11-29T14:56:08Z','','','{}',4,4,0,0,0,'{}','{}',0,'{}');
INSERT INTO "sources" VALUES(5,7,'pairs2.csv','pairs','pairs','bbc08963d74ee10934d5b69678592b82cde46db20fc7ea0ef81a7e0ee8a6fa8c','',34,'2026-11-29T14:56:09Z','','','{}',1,1,0,0,0,'{}','{}',0,'{}');
CREATE TABLE spellings (
	id INTEGER NOT NULL, 
	site VARCHAR NOT NULL, 
	spelling TEXT NOT NULL, 
	entry INTEGER, 
	variant TEXT NOT NULL, 
	aside VARCHAR NOT NULL, 
	"key" TEXT DEFAULT '' NOT NULL, 
	PRIMARY KEY (id), 
	CONSTRAINT spellings_by_text UNIQUE (site, spelling), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO "spellings" VALUES(1,'quillhaven.example','http://www.quillhaven.example/a.html',1,'/a.html','','');
INSERT INTO "spellings" VALUES(2,'quillhaven.example','http://www.quillhaven.example/b.html',2,'/b.html','','');
INSERT INTO "spellings" VALUES(3,'quillhaven.example','http://www.quillhaven.example/c',3,'/c','','');
INSERT INTO "spellings" VALUES(4,'quillhaven.example','http://www.quillhaven.example/old/x/',4,'/old/x/','','');
INSERT INTO "spellings" VALUES(5,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=1',5,'/shop/item.php','','');
INSERT INTO "spellings" VALUES(6,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=2',6,'/shop/item.php','','');
INSERT INTO "spellings" VALUES(7,'quillhaven.example','http://www.quillhaven.example/missing/03',7,'/missing/03','','');
INSERT INTO "spellings" VALUES(8,'quillhaven.example','http://www.quillhaven.example/missing/04',8,'/missing/04','','');
INSERT INTO "spellings" VALUES(9,'quillhaven.example','http://www.quillhaven.example/missing/05',9,'/missing/05','','');
INSERT INTO "spellings" VALUES(10,'quillhaven.example','http://www.quillhaven.example/style.css',NULL,'','furniture','');
INSERT INTO "spellings" VALUES(11,'quillhaven.example','http://www.quillhaven.example/wp-login.php',NULL,'','probe','');
INSERT INTO "spellings" VALUES(12,'quillhaven.example','http://www.quillhaven.example/B.html',2,'/B.html','','');
CREATE TABLE steps (
	id INTEGER NOT NULL, 
	time VARCHAR NOT NULL, 
	author VARCHAR NOT NULL, 
	command VARCHAR NOT NULL, 
	reason TEXT NOT NULL, 
	summary TEXT NOT NULL, 
	undoes INTEGER, 
	undone_by INTEGER, 
	PRIMARY KEY (id)
);
INSERT INTO "steps" VALUES(1,'2026-11-29T14:56:03Z','ada','open','','a new ledger',NULL,NULL);
INSERT INTO "steps" VALUES(2,'2026-11-29T14:56:04Z','ada','gather','list.csv','6 of 6 lines, 6 new entries',NULL,NULL);
INSERT INTO "steps" VALUES(3,'2026-11-29T14:56:05Z','ada','gather','access.log','18 of 30 lines, 3 new entries',NULL,NULL);
INSERT INTO "steps" VALUES(4,'2026-11-29T14:56:06Z','ada','stock','stock.csv','4 pages',NULL,NULL);
INSERT INTO "steps" VALUES(5,'2026-11-29T14:56:07Z','ada','match','accepting at 0.992 and above','3 answered, 3 proposals for 3 entries',NULL,NULL);
INSERT INTO "steps" VALUES(6,'2026-11-29T14:56:08Z','ada','decide','','1 answers from pairs.csv',NULL,NULL);
INSERT INTO "steps" VALUES(7,'2026-11-29T14:56:09Z','ada','decide','','1 answers from pairs2.csv',NULL,NULL);
INSERT INTO "steps" VALUES(8,'2026-11-29T14:56:09Z','ada','decide','','/old/x/: keep',NULL,NULL);
INSERT INTO "steps" VALUES(9,'2026-11-29T14:56:10Z','ada','decide','','/shop/{name}.php: move to https://www.quillhaven.example/things/{name}/',NULL,10);
INSERT INTO "steps" VALUES(10,'2026-11-29T14:56:11Z','ada','undo','','step 9 (decide: /shop/{name}.php: move to https://www.quillhaven.example/things/{name}/)',9,NULL);
CREATE TABLE templates (
	id INTEGER NOT NULL, 
	site VARCHAR NOT NULL, 
	source TEXT NOT NULL, 
	status INTEGER NOT NULL, 
	destination TEXT NOT NULL, 
	"query" VARCHAR NOT NULL, 
	"by" VARCHAR NOT NULL, 
	"where" VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	CONSTRAINT templates_by_source UNIQUE (site, source)
);
CREATE TABLE traces (
	run INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	rows BLOB NOT NULL, 
	CONSTRAINT blocks_by_number UNIQUE (run, number), 
	FOREIGN KEY(run) REFERENCES runs (id)
);
INSERT INTO "traces" VALUES(1,0,X'78019D52ED6AC3300C7C17FF16FE48D2410B630F62F2C34DBCD9CCB1B3DA5E0AA5EF3E79A4A3632CC9861118F9A43B9D7521F9E422394862521A0F8C4DD344DFB275CEA877EDA93EAB61749A296AD2E008ACC08EDB60D18491D9A4073A9AF1C9F68F62B5F38F926AB524B89E9DD92AAC232D8E6553716107355478F62030E942A7920DFECB9FF8BB41479D54E19AE91690C958FF129998D1A506B9C233D27310485E4303BB92CAA90B832EECB2E6F8C23948125E3FF5E26F2D70CC6A1E38E54592CFCEB5201BDE400949B2573E4EFAA4FB7F37FBA3A2BBA9AB4DA2086CC32DEFED6D07F6DF39058706E3E626DE09883B487BFD00D61B02F5');
INSERT INTO "traces" VALUES(2,0,X'7801AD904D0EC2201484EFC29A94A7C52E7A15D205AD6889FCD4026262BCBB0F177565DA18036C26936F667890349B405A41C618A796B19C73754DDA9851DE94ABD45DDAC92826AB315A43E88AADDF66B33A04EDCE0CEA55E262E5DBAD07D261511DCBAE8636745F0E4AC60F326AEF96BDE1FBE05E45C930F27311E04F4804BA435E4D7911521CBC5505286A401D800AE22FEF02F8A1EB010D5450525C32A6A38203A7E509929C7421AB591DFF0E23D87353EAAFC6EEF902AA3BC11E');
CREATE INDEX changes_by_step_row ON changes (step, table_name, row_key);
CREATE INDEX changes_by_row ON changes (table_name, row_key, step);
CREATE INDEX sources_by_digest ON sources (digest);
CREATE INDEX ix_spellings_entry ON spellings (entry);
CREATE INDEX spellings_in_doubt ON spellings (site, "key") WHERE key <> '';
CREATE INDEX log_lines_by_day ON log_lines (day);
CREATE INDEX ix_set_aside_source ON set_aside (source);
CREATE INDEX imported_by_source ON imported (source, number);
CREATE INDEX evidence_by_spelling ON evidence (spelling);
CREATE INDEX observations_by_spelling ON observations (spelling);
CREATE INDEX referrers_by_spelling ON referrers (spelling);
CREATE INDEX entry_lines_by_value ON entry_lines (value DESC, url);
CREATE INDEX entry_lines_by_answer ON entry_lines (kind, value DESC, url);
CREATE INDEX evidence_by_source ON evidence (source, spelling);
CREATE INDEX destinations_by_key ON destinations (page);
CREATE INDEX answers_with_a_day ON answers (until) WHERE until <> '';
COMMIT;
