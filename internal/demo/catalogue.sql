CREATE TABLE authors (
    author_id int AUTO_INCREMENT PRIMARY KEY,
    name      varchar(120) NOT NULL,
    born      year,
    notes     json
);

CREATE TABLE works (
    work_id    int AUTO_INCREMENT PRIMARY KEY,
    title      varchar(200) NOT NULL,
    author_id  int NOT NULL,
    audience   enum('children', 'youth', 'adults') NOT NULL DEFAULT 'adults',
    subjects   set('history', 'poetry', 'science', 'travel', 'music', 'crafts') NOT NULL DEFAULT '',
    changed_at timestamp(6) NOT NULL DEFAULT current_timestamp(6) ON UPDATE current_timestamp(6),
    FOREIGN KEY (author_id) REFERENCES authors (author_id)
);

CREATE TABLE editions (
    edition_id   bigint unsigned AUTO_INCREMENT PRIMARY KEY,
    work_id      int NOT NULL,
    isbn         char(13) CHARACTER SET latin1 NOT NULL UNIQUE,
    published    date,
    pages        smallint unsigned,
    list_price   decimal(8,2),
    running_time time,
    FOREIGN KEY (work_id) REFERENCES works (work_id)
);

CREATE TABLE shelf_marks (
    mark    varchar(20) CHARACTER SET latin1 PRIMARY KEY,
    label   varchar(80) NOT NULL,
    room    tinyint unsigned NOT NULL,
    colour  binary(3),
    is_open bit(1) NOT NULL DEFAULT b'1'
);
