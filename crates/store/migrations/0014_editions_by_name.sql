-- One of thousands of editions is found by its label, or as the newest that is served, without a look at the others.
CREATE INDEX edition_by_label ON edition (spec, label);
CREATE INDEX edition_served ON edition (spec, id) WHERE state = 'made' AND withdrawn_at IS NULL;
