package option

import "math"

// Codes that DHCPv6 itself uses (RFC 8415 unless noted).
const (
	ClientID6        = 1
	ServerID6        = 2
	IANA             = 3 // identity association for addresses
	IATA             = 4 // for temporary addresses
	IAAddress        = 5
	RequestList6     = 6
	Preference6      = 7
	ElapsedTime6     = 8
	RelayMessage6    = 9
	Authentication6  = 11
	Unicast6         = 12
	StatusCode6      = 13
	RapidCommit6     = 14
	UserClass6       = 15
	VendorClass6     = 16
	VendorOptions6   = 17
	InterfaceID6     = 18
	ReconfMessage6   = 19
	ReconfAccept6    = 20
	DNSServers6      = 23 // RFC 3646
	DomainList6      = 24 // RFC 3646
	IAPD             = 25 // for delegated prefixes
	IAPrefix         = 26
	InfoRefresh6     = 32
	RemoteID6        = 37 // RFC 4649
	Subscriber6      = 38 // RFC 4580
	FQDN6            = 39 // RFC 4704
	TimeZone6        = 42 // RFC 4833
	RelayID6         = 53 // RFC 5460
	SystemType6      = 61 // RFC 5970
	NetworkDevice6   = 62 // RFC 5970
	ERPDomain6       = 65 // RFC 6440
	RelaySupplied6   = 66 // RFC 6422
	PrefixExclude6   = 67 // RFC 6603
	ClientLinkLayer6 = 79 // RFC 6939
	SolMaxRT         = 82
	InfMaxRT         = 83
	RelayPort6       = 135 // RFC 8357
	AddressReg6      = 148 // RFC 9686
)

// Standard6 is the registered DHCPv6 codebook. Titles are those of the IANA registry without
// the word OPTION.
var Standard6 = wide(NewCodebook("standard v6", []Def{
	managed(also("Client Identifier", def(1, "CLIENTID", one(Bytes), "DUID of the client"))),
	managed(also("Server Identifier", def(2, "SERVERID", one(Bytes), "DUID of the server"))),
	managed(def(3, "IA_NA", one(Bytes), "association for addresses")),
	managed(def(4, "IA_TA", one(Bytes), "association for temporary addresses")),
	managed(def(5, "IAADDR", one(Bytes), "address of an association")),
	managed(also("Option Request", def(6, "ORO", list(U16), "codes the client wants"))),
	def(7, "PREFERENCE", one(U8), "weight of this server's offers; 255 is taken at once"),
	managed(def(8, "ELAPSED_TIME", one(U16), "since when the client tries, in hundredths of a second")),
	managed(def(9, "RELAY_MSG", one(Bytes), "message that a relay passes on")),
	managed(def(11, "AUTH", one(Bytes), "authentication")),
	managed(also("Server Unicast", def(12, "UNICAST", one(Address6), "no longer used (RFC 9915)"))),
	managed(def(13, "STATUS_CODE", record(U16, Text), "status of a message or an association")),
	managed(def(14, "RAPID_COMMIT", one(Empty), "two messages instead of four; set as a scope's rapid commit")),
	def(15, "USER_CLASS", list(Counted16), "user classes"),
	def(16, "VENDOR_CLASS", withTail(U32, Counted16), "enterprise number and vendor classes"),
	def(17, "VENDOR_OPTS", one(Bytes), "enterprise number and a vendor's options"),
	managed(def(18, "INTERFACE_ID", one(Bytes), "interface of a relay, echoed")),
	managed(def(19, "RECONF_MSG", one(U8), "what a client is to do")),
	managed(def(20, "RECONF_ACCEPT", one(Empty), "client can be told to renew")),
	also("SIP Servers Domain Name List", def(21, "SIP_SERVER_D", list(Name), "SIP servers by name (RFC 3319)")),
	also("SIP Servers IPv6 Address List", def(22, "SIP_SERVER_A", list(Address6), "SIP servers (RFC 3319)")),
	also("DNS Recursive Name Server", def(23, "DNS_SERVERS", list(Address6), "DNS resolvers, best first (RFC 3646)")),
	also("Domain Search List", def(24, "DOMAIN_LIST", list(Name), "domains searched in order (RFC 3646)")),
	managed(def(25, "IA_PD", one(Bytes), "association for delegated prefixes")),
	managed(def(26, "IAPREFIX", one(Bytes), "prefix of an association")),
	def(27, "NIS_SERVERS", list(Address6), "NIS servers (RFC 3898)"),
	def(28, "NISP_SERVERS", list(Address6), "NIS+ servers (RFC 3898)"),
	def(29, "NIS_DOMAIN_NAME", one(Name), "NIS domain (RFC 3898)"),
	def(30, "NISP_DOMAIN_NAME", one(Name), "NIS+ domain (RFC 3898)"),
	def(31, "SNTP_SERVERS", list(Address6), "time servers; obsolete, see 56 (RFC 4075)"),
	also("Information Refresh Time", def(32, "INFORMATION_REFRESH_TIME", one(Duration), "when options asked for alone are asked for again")),
	def(33, "BCMCS_SERVER_D", list(Name), "broadcast service controllers (RFC 4280)"),
	def(34, "BCMCS_SERVER_A", list(Address6), "broadcast service controllers (RFC 4280)"),
	def(36, "GEOCONF_CIVIC", one(Bytes), "civic location (RFC 4776)"),
	managed(def(37, "REMOTE_ID", record(U32, Bytes), "added by a relay (RFC 4649)")),
	managed(def(38, "SUBSCRIBER_ID", one(Bytes), "added by a relay (RFC 4580)")),
	managed(def(39, "CLIENT_FQDN", record(U8, Bytes), "flags and name (RFC 4704)")),
	def(40, "PANA_AGENT", list(Address6), "network access authentication agents (RFC 5192)"),
	also("POSIX Time Zone", def(41, "NEW_POSIX_TIMEZONE", one(Text), "POSIX time zone (RFC 4833)")),
	also("TZDB Time Zone", def(42, "NEW_TZDB_TIMEZONE", one(Text), "time zone by name (RFC 4833)")),
	managed(def(43, "ERO", list(U16), "codes that a relay wants back (RFC 4994)")),
	managed(def(44, "LQ_QUERY", one(Bytes), "lease query (RFC 5007)")),
	managed(def(45, "CLIENT_DATA", one(Bytes), "lease query (RFC 5007)")),
	managed(def(46, "CLT_TIME", one(Duration), "lease query (RFC 5007)")),
	managed(def(47, "LQ_RELAY_DATA", one(Bytes), "lease query (RFC 5007)")),
	managed(def(48, "LQ_CLIENT_LINK", list(Address6), "lease query (RFC 5007)")),
	def(49, "MIP6_HNIDF", one(Name), "mobile IP home network (RFC 6610)"),
	def(50, "MIP6_VDINF", one(Bytes), "mobile IP visited network (RFC 6610)"),
	def(51, "V6_LOST", one(Name), "location-to-service server (RFC 5223)"),
	def(52, "CAPWAP_AC_V6", list(Address6), "access point controllers (RFC 5417)"),
	managed(def(53, "RELAY_ID", one(Bytes), "DUID of a relay (RFC 5460)")),
	def(54, "IPv6_Address-MoS", one(Bytes), "mobility services, addresses (RFC 5678)"),
	def(55, "IPv6_FQDN-MoS", one(Bytes), "mobility services, names (RFC 5678)"),
	def(56, "NTP_SERVER", one(NTP6), "time servers, by address or name (RFC 5908)"),
	def(57, "V6_ACCESS_DOMAIN", one(Name), "access network domain (RFC 5986)"),
	def(58, "SIP_UA_CS_LIST", list(Name), "SIP configuration domains (RFC 6011)"),
	also("Boot File URL", def(59, "BOOTFILE_URL", one(Text), "boot file (RFC 5970)")),
	also("Boot File Parameters", def(60, "BOOTFILE_PARAM", list(Counted16), "parameters of the boot file (RFC 5970)")),
	def(61, "CLIENT_ARCH_TYPE", list(U16), "machine architectures (RFC 5970)"),
	def(62, "NII", record(U8, U8, U8), "network interface type and version (RFC 5970)"),
	def(63, "GEOLOCATION", one(Bytes), "location (RFC 6225)"),
	also("AFTR-Name", def(64, "AFTR_NAME", one(Name), "tunnel concentrator for IPv4 (RFC 6334)")),
	def(65, "ERP_LOCAL_DOMAIN_NAME", one(Name), "re-authentication domain (RFC 6440)"),
	managed(def(66, "RSOO", one(Bytes), "options that a relay supplies (RFC 6422)")),
	managed(def(67, "PD_EXCLUDE", one(Bytes), "prefix left out of a delegated one (RFC 6603)")),
	managed(def(68, "VSS", one(Bytes), "virtual private network (RFC 6607)")),
	def(69, "MIP6_IDINF", one(Bytes), "mobile IP home network, identified (RFC 6610)"),
	def(70, "MIP6_UDINF", one(Bytes), "mobile IP home network, unrestricted (RFC 6610)"),
	def(71, "MIP6_HNP", one(Bytes), "mobile IP home network prefix (RFC 6610)"),
	def(72, "MIP6_HAA", one(Address6), "mobile IP home agent (RFC 6610)"),
	def(73, "MIP6_HAF", one(Name), "mobile IP home agent by name (RFC 6610)"),
	def(74, "RDNSS_SELECTION", one(Bytes), "preferred resolvers for domains (RFC 6731)"),
	def(75, "KRB_PRINCIPAL_NAME", one(Bytes), "Kerberos principal (RFC 6784)"),
	def(76, "KRB_REALM_NAME", one(Text), "Kerberos realm (RFC 6784)"),
	def(77, "KRB_DEFAULT_REALM_NAME", one(Text), "Kerberos default realm (RFC 6784)"),
	def(78, "KRB_KDC", one(Bytes), "Kerberos servers (RFC 6784)"),
	managed(def(79, "CLIENT_LINKLAYER_ADDR", record(U16, Bytes), "hardware address, added by a relay (RFC 6939)")),
	managed(def(80, "LINK_ADDRESS", one(Address6), "link (RFC 6977)")),
	def(81, "RADIUS", one(Bytes), "RADIUS attributes (RFC 7037)"),
	also("SOL_MAX_RT", def(82, "SOL_MAX_RT", one(Duration), "longest pause between SOLICITs, 60s to 86400s")),
	also("INF_MAX_RT", def(83, "INF_MAX_RT", one(Duration), "longest pause between INFORMATION-REQUESTs, 60s to 86400s")),
	def(84, "ADDRSEL", one(Bytes), "address selection (RFC 7078)"),
	def(85, "ADDRSEL_TABLE", one(Bytes), "address selection policy (RFC 7078)"),
	def(86, "V6_PCP_SERVER", list(Address6), "port control servers (RFC 7291)"),
	managed(def(87, "DHCPV4_MSG", one(Bytes), "DHCPv4 over DHCPv6 (RFC 7341)")),
	def(88, "DHCP4_O_DHCP6_SERVER", list(Address6), "servers of DHCPv4 over DHCPv6 (RFC 7341)"),
	def(89, "S46_RULE", one(Bytes), "softwire mapping rule (RFC 7598)"),
	def(90, "S46_BR", one(Address6), "softwire border relay (RFC 7598)"),
	def(91, "S46_DMR", one(Bytes), "softwire default mapping rule (RFC 7598)"),
	def(92, "S46_V4V6BIND", one(Bytes), "softwire binding (RFC 7598)"),
	def(93, "S46_PORTPARAMS", one(Bytes), "softwire ports (RFC 7598)"),
	def(94, "S46_CONT_MAPE", one(Bytes), "softwire container MAP-E (RFC 7598)"),
	def(95, "S46_CONT_MAPT", one(Bytes), "softwire container MAP-T (RFC 7598)"),
	def(96, "S46_CONT_LW", one(Bytes), "softwire container lightweight (RFC 7598)"),
	def(97, "4RD", one(Bytes), "IPv4 residual deployment (RFC 7600)"),
	def(98, "4RD_MAP_RULE", one(Bytes), "residual deployment mapping rule (RFC 7600)"),
	def(99, "4RD_NON_MAP_RULE", one(Bytes), "residual deployment other rule (RFC 7600)"),
	managed(def(100, "LQ_BASE_TIME", one(U32), "lease query (RFC 7653)")),
	managed(def(101, "LQ_START_TIME", one(U32), "lease query (RFC 7653)")),
	managed(def(102, "LQ_END_TIME", one(U32), "lease query (RFC 7653)")),
	also("Captive-Portal", def(103, "CAPTIVE_PORTAL", one(Text), "address of the captive portal's API (RFC 8910)")),
	def(104, "MPL_PARAMETERS", one(Bytes), "multicast for low-power networks (RFC 7774)"),
	def(105, "ANI_ATT", one(U16), "access technology (RFC 7839)"),
	def(106, "ANI_NETWORK_NAME", one(Text), "access network (RFC 7839)"),
	def(107, "ANI_AP_NAME", one(Text), "access point (RFC 7839)"),
	def(108, "ANI_AP_BSSID", one(Bytes), "access point, identified (RFC 7839)"),
	def(109, "ANI_OPERATOR_ID", one(Bytes), "operator (RFC 7839)"),
	def(110, "ANI_OPERATOR_REALM", one(Text), "realm of the operator (RFC 7839)"),
	def(111, "S46_PRIORITY", list(U16), "order of softwires (RFC 8026)"),
	def(112, "MUD_URL_V6", one(Text), "manufacturer usage description (RFC 8520)"),
	def(113, "V6_PREFIX64", one(Bytes), "prefixes for translated multicast (RFC 8115)"),
	def(135, "RELAY_PORT", one(U16), "port of a relay (RFC 8357)"),
	def(136, "V6_SZTP_REDIRECT", one(Bytes), "bootstrap servers (RFC 8572)"),
	def(137, "S46_BIND_IPV6_PREFIX", one(Bytes), "softwire source prefix (RFC 8539)"),
	managed(def(138, "IA_LL", one(Bytes), "association for hardware addresses (RFC 8947)")),
	managed(def(139, "LLADDR", one(Bytes), "hardware addresses (RFC 8947)")),
	managed(def(140, "SLAP_QUAD", one(Bytes), "kind of hardware address (RFC 8948)")),
	def(141, "V6_DOTS_RI", one(Name), "threat signalling agent by name (RFC 8973)"),
	def(142, "V6_DOTS_ADDRESS", list(Address6), "threat signalling agents (RFC 8973)"),
	def(143, "IPv6_Address-ANDSF", list(Address6), "network discovery servers (RFC 6153)"),
	def(144, "V6_DNR", one(Bytes), "encrypted resolvers (RFC 9463)"),
	def(148, "ADDR_REG_ENABLE", one(Empty), "clients may register addresses that they made themselves (RFC 9686)"),
}))

// wide is a codebook whose codes have two octets.
func wide(c *Codebook) *Codebook {
	c.Most = math.MaxUint16
	return c
}
