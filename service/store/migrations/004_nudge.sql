-- Clients take a FORCERENEW only if it repeats the transaction of their last
-- exchange, so the record keeps that behind the nonce.
alter table lease rename column nonce to nudge;
update lease set nudge = '' where nudge <> '';
