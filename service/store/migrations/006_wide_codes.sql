-- Codes of options take two octets in sets of given options, as DHCPv6 has them.
create function wider(body bytea) returns bytea language plpgsql as $$
declare
	wide bytea := '';
	at   int := 0;
	n    int;
begin
	while at + 4 <= length(body) loop
		n := get_byte(body, at + 2) * 256 + get_byte(body, at + 3);
		wide := wide || substring(body from at + 1 for 1) || '\x00'::bytea || substring(body from at + 2 for 3 + n);
		at := at + 4 + n;
	end loop;
	return wide;
end $$;
update given_set set body = wider(body);
drop function wider(bytea);
