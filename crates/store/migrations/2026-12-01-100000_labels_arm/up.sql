-- What machines of a label are armed with where nobody names anything else.
ALTER TABLE label ADD COLUMN image TEXT;
ALTER TABLE label ADD COLUMN answers TEXT;
