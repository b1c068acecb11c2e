DROP TABLE survey;
