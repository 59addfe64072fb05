-- By what the server is known to clients of DHCPv6, and the key by which it chooses what they get.
alter table server
	add column duid bytea,
	add column choice_key bytea;
