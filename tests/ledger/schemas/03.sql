PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE migrations (
	number INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	applied VARCHAR NOT NULL, 
	PRIMARY KEY (number)
);
INSERT INTO migrations VALUES(1,'first schema','2026-11-29T14:54:36+00:00');
INSERT INTO migrations VALUES(2,'days and classes','2026-11-29T14:54:36+00:00');
INSERT INTO migrations VALUES(3,'items and sections','2026-11-29T14:54:36+00:00');
CREATE TABLE policies (
	number INTEGER NOT NULL, 
	settings JSON NOT NULL, 
	since VARCHAR NOT NULL, 
	PRIMARY KEY (number)
);
INSERT INTO policies VALUES(1,'{"case": "fold", "index_files": ["index.html", "index.htm", "index.shtml", "index.php", "index.asp", "index.aspx", "index.jsp", "index.cfm", "default.htm", "default.html", "default.asp", "default.aspx"], "tracking": ["utm_source", "utm_medium", "utm_campaign", "utm_term", "utm_content", "utm_id", "gclid", "gbraid", "wbraid", "dclid", "msclkid", "fbclid", "ttclid", "twclid", "mc_cid"], "tracking_only_folded": ["mc_eid", "igshid", "yclid", "srsltid", "_ga", "_gl", "epik", "vero_id", "oly_enc_id", "hsctatracking"], "session": ["phpsessid", "jsessionid", "aspsessionid", "sessionid", "session_id", "sid", "cfid", "cftoken", "zenid", "oscsid"], "view_params": ["amp", "print", "printable", "printview", "print_view", "printfriendly", "printer_friendly"], "view_segments": ["amp", "print"], "take_back": [], "significant": {}}','2026-11-29T14:54:36Z');
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
INSERT INTO steps VALUES(1,'2026-11-29T14:54:36Z','ada','open','','a new ledger',NULL,NULL);
INSERT INTO steps VALUES(2,'2026-11-29T14:54:36Z','ada','gather','list.csv','6 of 6 lines, 6 new entries',NULL,NULL);
INSERT INTO steps VALUES(3,'2026-11-29T14:54:37Z','ada','gather','access.log','18 of 30 lines, 3 new entries',NULL,NULL);
INSERT INTO steps VALUES(4,'2026-11-29T14:54:38Z','ada','stock','stock.csv','4 pages',NULL,NULL);
INSERT INTO steps VALUES(5,'2026-11-29T14:54:39Z','ada','match','accepting at 0.992 and above','3 answered, 0 only proposed',NULL,NULL);
INSERT INTO steps VALUES(6,'2026-11-29T14:54:40Z','ada','decide','','1 answers from pairs.csv',NULL,NULL);
INSERT INTO steps VALUES(7,'2026-11-29T14:54:40Z','ada','decide','','1 answers from pairs2.csv',NULL,NULL);
INSERT INTO steps VALUES(8,'2026-11-29T14:54:41Z','ada','decide','','/old/x/: keep',NULL,NULL);
INSERT INTO steps VALUES(9,'2026-11-29T14:54:42Z','ada','decide','','/shop/%7Bname%7D.php: move to https://www.quillhaven.example/things/%7Bname%7D/',NULL,10);
INSERT INTO steps VALUES(10,'2026-11-29T14:54:42Z','ada','undo','','step 9 (decide: /shop/%7Bname%7D.php: move to https://www.quillhaven.example/things/%7Bname%7D/)',9,NULL);
CREATE TABLE runs (
	id INTEGER NOT NULL, 
	kind VARCHAR NOT NULL, 
	name VARCHAR NOT NULL, 
	started VARCHAR NOT NULL, 
	finished VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	at VARCHAR NOT NULL, 
	counts JSON, 
	PRIMARY KEY (id)
);
INSERT INTO runs VALUES(1,'rehearse','','2026-11-29T14:54:43Z','2026-11-29T14:54:43Z','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','','{"unanswered": 3, "ok": 3}');
INSERT INTO runs VALUES(2,'rehearse','','2026-11-29T14:54:44Z','2026-11-29T14:54:44Z','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','','{"unanswered": 4, "ok": 1}');
CREATE TABLE builds (
	id INTEGER NOT NULL, 
	time VARCHAR NOT NULL, 
	dialect VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	folder TEXT NOT NULL, 
	rules INTEGER NOT NULL, 
	held_back INTEGER NOT NULL, 
	live_from VARCHAR NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO builds VALUES(1,'2026-11-29T14:54:43Z','nginx','9f03717bb897e53f9649387f06009bd22beeb83cf6c64fd026b0665af3610a61','/srv/rules',3,2,'');
CREATE TABLE changes (
	step INTEGER NOT NULL, 
	table_name VARCHAR NOT NULL, 
	row_key VARCHAR NOT NULL, 
	"before" JSON, 
	FOREIGN KEY(step) REFERENCES steps (id)
);
INSERT INTO changes VALUES(2,'sources','[1]','null');
INSERT INTO changes VALUES(3,'sources','[2]','null');
INSERT INTO changes VALUES(4,'sources','[3]','null');
INSERT INTO changes VALUES(5,'answers','[1]','null');
INSERT INTO changes VALUES(5,'answers','[2]','null');
INSERT INTO changes VALUES(5,'answers','[5]','null');
INSERT INTO changes VALUES(6,'sources','[4]','null');
INSERT INTO changes VALUES(6,'answers','[1]','{"entry": 1, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/alpha/", "query": "carry-tracking", "by": "match", "old": "http://www.quillhaven.example/a.html", "host_given": true, "where": "", "note": "", "inherited": false}');
INSERT INTO changes VALUES(6,'answers','[3]','null');
INSERT INTO changes VALUES(6,'answers','[2]','{"entry": 2, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/beta/", "query": "carry-tracking", "by": "match", "old": "http://www.quillhaven.example/b.html", "host_given": true, "where": "", "note": "", "inherited": false}');
INSERT INTO changes VALUES(6,'claims','[2, 1]','null');
INSERT INTO changes VALUES(7,'sources','[5]','null');
INSERT INTO changes VALUES(7,'answers','[1]','{"entry": 1, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/alpha/", "query": "carry-tracking", "by": "import", "old": "http://www.quillhaven.example/a.html", "host_given": false, "where": "pairs.csv row 2", "note": "", "inherited": false}');
INSERT INTO changes VALUES(8,'answers','[4]','null');
INSERT INTO changes VALUES(9,'answers','[10]','null');
INSERT INTO changes VALUES(10,'answers','[10]','{"entry": 10, "kind": "move", "status": 301, "destination": "https://www.quillhaven.example/things/%7Bname%7D/", "query": "carry-tracking", "by": "person", "old": "http://www.quillhaven.example/shop/%7Bname%7D.php", "host_given": false, "where": "", "note": "", "inherited": false}');
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
	PRIMARY KEY (id), 
	FOREIGN KEY(step) REFERENCES steps (id)
);
INSERT INTO sources VALUES(1,2,'list.csv','table','gather','43a244cfc1e7c9e1e931a5812f1f2552bcc0e593a688e27a3559b3b908f3e463','',142,'2026-11-29T14:54:36Z','','','{"url": "url", "hits": "hits", "title": "title"}',6,6,0,0,6,'{"trailing slash": 1}','{}',0);
INSERT INTO sources VALUES(2,3,'access.log','access-log','gather','','',0,'2026-11-29T14:54:37Z','2026-05-03','2026-05-05','{}',30,18,12,0,3,'{"tracking parameter": 6}','{"furniture": 6, "probe": 6}',0);
INSERT INTO sources VALUES(3,4,'stock.csv','table','stock','889c281d38285bdee7383a697d9c47b33a4aec7df5fe8e416c54ad38f0571de6','',217,'2026-11-29T14:54:38Z','','','{}',4,4,0,0,0,'{}','{}',0);
INSERT INTO sources VALUES(4,6,'pairs.csv','pairs','pairs','3e1c229e02ec9eda52eb0747512b4e086cd5d4e73d93ec7f08fcb7e5aa282cc2','',82,'2026-11-29T14:54:40Z','','','{}',4,4,0,0,0,'{}','{}',0);
INSERT INTO sources VALUES(5,7,'pairs2.csv','pairs','pairs','bbc08963d74ee10934d5b69678592b82cde46db20fc7ea0ef81a7e0ee8a6fa8c','',34,'2026-11-29T14:54:40Z','','','{}',1,1,0,0,0,'{}','{}',0);
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
INSERT INTO entries VALUES(1,'quillhaven.example','/a.html',1,'http://www.quillhaven.example/a.html');
INSERT INTO entries VALUES(2,'quillhaven.example','/b.html',1,'http://www.quillhaven.example/b.html');
INSERT INTO entries VALUES(3,'quillhaven.example','/c',1,'http://www.quillhaven.example/c');
INSERT INTO entries VALUES(4,'quillhaven.example','/old/x',1,'http://www.quillhaven.example/old/x/');
INSERT INTO entries VALUES(5,'quillhaven.example','/shop/item.php?id=1',1,'http://www.quillhaven.example/shop/item.php?id=1');
INSERT INTO entries VALUES(6,'quillhaven.example','/shop/item.php?id=2',1,'http://www.quillhaven.example/shop/item.php?id=2');
INSERT INTO entries VALUES(7,'quillhaven.example','/missing/03',1,'http://www.quillhaven.example/missing/03');
INSERT INTO entries VALUES(8,'quillhaven.example','/missing/04',1,'http://www.quillhaven.example/missing/04');
INSERT INTO entries VALUES(9,'quillhaven.example','/missing/05',1,'http://www.quillhaven.example/missing/05');
INSERT INTO entries VALUES(10,'quillhaven.example','/shop/%7Bname%7D.php',1,'http://www.quillhaven.example/shop/%7Bname%7D.php');
CREATE TABLE traces (
	run INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	url TEXT NOT NULL, 
	entry INTEGER, 
	hits FLOAT NOT NULL, 
	verdicts JSON NOT NULL, 
	hops JSON NOT NULL, 
	final_url TEXT NOT NULL, 
	final_status INTEGER NOT NULL, 
	expected TEXT NOT NULL, 
	CONSTRAINT traces_by_number UNIQUE (run, number), 
	FOREIGN KEY(run) REFERENCES runs (id)
);
INSERT INTO traces VALUES(1,0,'http://www.quillhaven.example/a.html',NULL,5.0,'["ok"]','[{"url": "http://www.quillhaven.example/a.html", "status": 301, "location": "https://www.quillhaven.example/beta/", "resolved": "https://www.quillhaven.example/beta/", "changed": ["scheme", "content"], "seconds": 0.0, "error": ""}, {"url": "https://www.quillhaven.example/beta/", "status": 200, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','https://www.quillhaven.example/beta/',200,'https://www.quillhaven.example/beta/');
INSERT INTO traces VALUES(1,1,'http://www.quillhaven.example/b.html',NULL,3.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/b.html", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/b.html',404,'https://www.quillhaven.example/beta/');
INSERT INTO traces VALUES(1,2,'http://www.quillhaven.example/shop/item.php?id=1',NULL,2.0,'["ok"]','[{"url": "http://www.quillhaven.example/shop/item.php?id=1", "status": 301, "location": "https://www.quillhaven.example/things/1/", "resolved": "https://www.quillhaven.example/things/1/", "changed": ["scheme", "content", "query"], "seconds": 0.0, "error": ""}, {"url": "https://www.quillhaven.example/things/1/", "status": 200, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','https://www.quillhaven.example/things/1/',200,'https://www.quillhaven.example/things/1/');
INSERT INTO traces VALUES(1,3,'http://www.quillhaven.example/shop/item.php?id=2',NULL,2.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/shop/item.php?id=2", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/shop/item.php?id=2',404,'');
INSERT INTO traces VALUES(1,4,'http://www.quillhaven.example/old/x/',NULL,9.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/old/x/", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/old/x/',404,'http://www.quillhaven.example/old/x/');
INSERT INTO traces VALUES(1,5,'http://www.quillhaven.example/c',NULL,1.0,'["ok"]','[{"url": "http://www.quillhaven.example/c", "status": 410, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/c',410,'410');
INSERT INTO traces VALUES(2,0,'http://www.quillhaven.example/a.html',NULL,6.0,'["ok"]','[{"url": "http://www.quillhaven.example/a.html", "status": 301, "location": "https://www.quillhaven.example/beta/", "resolved": "https://www.quillhaven.example/beta/", "changed": ["scheme", "content"], "seconds": 0.0, "error": ""}, {"url": "https://www.quillhaven.example/beta/", "status": 200, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','https://www.quillhaven.example/beta/',200,'https://www.quillhaven.example/beta/');
INSERT INTO traces VALUES(2,1,'http://www.quillhaven.example/b.html?utm_source=mail',NULL,6.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/b.html?utm_source=mail", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/b.html?utm_source=mail',404,'https://www.quillhaven.example/beta/');
INSERT INTO traces VALUES(2,2,'http://www.quillhaven.example/missing/03',NULL,2.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/missing/03", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/missing/03',404,'');
INSERT INTO traces VALUES(2,3,'http://www.quillhaven.example/missing/04',NULL,2.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/missing/04", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/missing/04',404,'');
INSERT INTO traces VALUES(2,4,'http://www.quillhaven.example/missing/05',NULL,2.0,'["unanswered"]','[{"url": "http://www.quillhaven.example/missing/05", "status": 404, "location": "", "resolved": "", "changed": [], "seconds": 0.0, "error": ""}]','http://www.quillhaven.example/missing/05',404,'');
CREATE TABLE spellings (
	id INTEGER NOT NULL, 
	site VARCHAR NOT NULL, 
	spelling TEXT NOT NULL, 
	entry INTEGER, 
	variant TEXT NOT NULL, 
	aside VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	CONSTRAINT spellings_by_text UNIQUE (site, spelling), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO spellings VALUES(1,'quillhaven.example','http://www.quillhaven.example/a.html',1,'/a.html','');
INSERT INTO spellings VALUES(2,'quillhaven.example','http://www.quillhaven.example/b.html',2,'/b.html','');
INSERT INTO spellings VALUES(3,'quillhaven.example','http://www.quillhaven.example/c',3,'/c','');
INSERT INTO spellings VALUES(4,'quillhaven.example','http://www.quillhaven.example/old/x/',4,'/old/x/','');
INSERT INTO spellings VALUES(5,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=1',5,'/shop/item.php','');
INSERT INTO spellings VALUES(6,'quillhaven.example','http://www.quillhaven.example/shop/item.php?id=2',6,'/shop/item.php','');
INSERT INTO spellings VALUES(7,'quillhaven.example','http://www.quillhaven.example/missing/03',7,'/missing/03','');
INSERT INTO spellings VALUES(8,'quillhaven.example','http://www.quillhaven.example/missing/04',8,'/missing/04','');
INSERT INTO spellings VALUES(9,'quillhaven.example','http://www.quillhaven.example/missing/05',9,'/missing/05','');
INSERT INTO spellings VALUES(10,'quillhaven.example','http://www.quillhaven.example/style.css',NULL,'','furniture');
INSERT INTO spellings VALUES(11,'quillhaven.example','http://www.quillhaven.example/wp-login.php',NULL,'','probe');
INSERT INTO spellings VALUES(12,'quillhaven.example','http://www.quillhaven.example/B.html',2,'/B.html','');
CREATE TABLE log_lines (
	source INTEGER NOT NULL, 
	day VARCHAR NOT NULL, 
	method VARCHAR NOT NULL, 
	digests BLOB NOT NULL, 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO log_lines VALUES(2,'2026-05-03','duckdb-7c56b41b8b033cf4',X'f464e71b708bbd3239c7b351931a18d85b81e278a0a359f7c1bde8e176038b91b7804251dda1ff01b0bbfd920200d1153da8b8d456305a311fb1f4b6572b162344bba880cb5cb828989305426a683f7f');
INSERT INTO log_lines VALUES(2,'2026-05-04','duckdb-7c56b41b8b033cf4',X'75b6f5159057b833cf58b200354d77218ad6d42cf36f9e5e977caca9f3a313b6da1d99f6030ae657b2c41831a518bf485c78c46ad80d6976ece8ba9ee403724986660e4ff3e4593685251276cc006bb1');
INSERT INTO log_lines VALUES(2,'2026-05-05','duckdb-7c56b41b8b033cf4',X'd454966f5599e313e24f6716d87fc583da7248b3130f8b64a397436089e03d8d4cba2cb6e3b5bde4a3b013f5910c2a9025a779a91c8e5e2cba53288093833a9096d2e86fb4ecd552410ca13562a5783d');
CREATE TABLE set_aside (
	source INTEGER NOT NULL, 
	kind VARCHAR NOT NULL, 
	text TEXT NOT NULL, 
	lines INTEGER NOT NULL, 
	FOREIGN KEY(source) REFERENCES sources (id)
);
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
INSERT INTO destinations VALUES(3,'https://www.quillhaven.example/alpha/','https://www.quillhaven.example/alpha/',200,'Alpha page','','','','','','','live','','');
INSERT INTO destinations VALUES(3,'https://www.quillhaven.example/beta/','https://www.quillhaven.example/beta/',200,'Beta page','','','','','','','live','','');
INSERT INTO destinations VALUES(3,'https://www.quillhaven.example/things/1/','https://www.quillhaven.example/things/1/',200,'One thing','','','','','','','live','','');
INSERT INTO destinations VALUES(3,'https://www.quillhaven.example/','https://www.quillhaven.example/',200,'Home','','','','','','','live','','');
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
	PRIMARY KEY (entry), 
	FOREIGN KEY(entry) REFERENCES entries (id)
);
INSERT INTO answers VALUES(1,'move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','http://www.quillhaven.example/a.html',0,'pairs2.csv row 2','',0);
INSERT INTO answers VALUES(2,'move',301,'https://www.quillhaven.example/beta/','carry-tracking','import','http://www.quillhaven.example/b.html',0,'pairs.csv row 4','',0);
INSERT INTO answers VALUES(3,'gone',410,'','carry-tracking','import','http://www.quillhaven.example/c',0,'pairs.csv row 3','',0);
INSERT INTO answers VALUES(4,'keep',0,'','carry-tracking','person','http://www.quillhaven.example/old/x/',0,'','',0);
INSERT INTO answers VALUES(5,'move',301,'https://www.quillhaven.example/things/1/','carry-tracking','match','http://www.quillhaven.example/shop/item.php?id=1',1,'','',0);
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
INSERT INTO claims VALUES(2,1,301,'https://www.quillhaven.example/alpha/','http://www.quillhaven.example/B.html',0,'pairs.csv row 5');
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
INSERT INTO proposals VALUES(5,1,1,'https://www.quillhaven.example/alpha/',0.99199999999999999289,'["has the same title"]');
INSERT INTO proposals VALUES(5,2,1,'https://www.quillhaven.example/beta/',0.99399999999999999467,'["has the same title"]');
INSERT INTO proposals VALUES(5,5,1,'https://www.quillhaven.example/things/1/',0.99899999999999999911,'["has the same title", "has the same words in its address"]');
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
INSERT INTO evidence VALUES(1,1,'hits','','',5.0,'','','');
INSERT INTO evidence VALUES(2,1,'hits','','',3.0,'','','');
INSERT INTO evidence VALUES(5,1,'hits','','',2.0,'','','');
INSERT INTO evidence VALUES(6,1,'hits','','',2.0,'','','');
INSERT INTO evidence VALUES(4,1,'hits','','',9.0,'','','');
INSERT INTO evidence VALUES(3,1,'hits','','',1.0,'','','');
INSERT INTO evidence VALUES(1,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(1,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(2,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(2,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(10,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(10,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(11,2,'hits','2xx','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(11,2,'hits','404','people',3.0,'2026-05-03','2026-05-05','2026-05-03:1 2026-05-04:1 2026-05-05:1');
INSERT INTO evidence VALUES(7,2,'hits','2xx','people',1.0,'2026-05-03','2026-05-03','2026-05-03:1');
INSERT INTO evidence VALUES(7,2,'hits','404','people',1.0,'2026-05-03','2026-05-03','2026-05-03:1');
INSERT INTO evidence VALUES(8,2,'hits','2xx','people',1.0,'2026-05-04','2026-05-04','2026-05-04:1');
INSERT INTO evidence VALUES(8,2,'hits','404','people',1.0,'2026-05-04','2026-05-04','2026-05-04:1');
INSERT INTO evidence VALUES(9,2,'hits','2xx','people',1.0,'2026-05-05','2026-05-05','2026-05-05:1');
INSERT INTO evidence VALUES(9,2,'hits','404','people',1.0,'2026-05-05','2026-05-05','2026-05-05:1');
INSERT INTO evidence VALUES(1,4,'listed','','',1.0,'','','');
INSERT INTO evidence VALUES(3,4,'listed','','',1.0,'','','');
INSERT INTO evidence VALUES(2,4,'listed','','',1.0,'','','');
INSERT INTO evidence VALUES(12,4,'listed','','',1.0,'','','');
INSERT INTO evidence VALUES(1,5,'listed','','',1.0,'','','');
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
INSERT INTO observations VALUES(1,1,'Alpha page','','',0,'','');
INSERT INTO observations VALUES(2,1,'Beta page','','',0,'','');
INSERT INTO observations VALUES(5,1,'One thing','','',0,'','');
INSERT INTO observations VALUES(6,1,'Two things','','',0,'','');
INSERT INTO observations VALUES(4,1,'Xray','','',0,'','');
CREATE TABLE referrers (
	spelling INTEGER NOT NULL, 
	source INTEGER NOT NULL, 
	referrers TEXT NOT NULL, 
	FOREIGN KEY(spelling) REFERENCES spellings (id), 
	FOREIGN KEY(source) REFERENCES sources (id)
);
INSERT INTO referrers VALUES(1,2,'6 http://blog.example/post');
INSERT INTO referrers VALUES(2,2,'6 http://blog.example/post');
INSERT INTO referrers VALUES(10,2,'6 http://blog.example/post');
INSERT INTO referrers VALUES(11,2,'6 http://blog.example/post');
INSERT INTO referrers VALUES(7,2,'2 http://blog.example/post');
INSERT INTO referrers VALUES(8,2,'2 http://blog.example/post');
INSERT INTO referrers VALUES(9,2,'2 http://blog.example/post');
CREATE INDEX changes_by_step_row ON changes (step, table_name, row_key);
CREATE INDEX changes_by_row ON changes (table_name, row_key, step);
CREATE INDEX sources_by_digest ON sources (digest);
CREATE INDEX ix_spellings_entry ON spellings (entry);
CREATE INDEX log_lines_by_day ON log_lines (day);
CREATE INDEX ix_set_aside_source ON set_aside (source);
CREATE INDEX evidence_by_spelling ON evidence (spelling);
CREATE INDEX observations_by_spelling ON observations (spelling);
CREATE INDEX referrers_by_spelling ON referrers (spelling);
COMMIT;
