-- What futures contracts are on, when their holders may be told to take delivery, and how many times over a fund follows what it follows.
ALTER TABLE instrument ADD COLUMN product TEXT;
ALTER TABLE instrument ADD COLUMN first_notice INTEGER;
ALTER TABLE instrument ADD COLUMN leverage TEXT;
