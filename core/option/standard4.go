package option

// Codes that the protocol itself uses (RFC 2132 unless noted).
const (
	SubnetMask           = 1
	Router               = 3
	DomainServer         = 6
	Hostname             = 12
	DomainName           = 15
	BroadcastAddress     = 28
	VendorSpecific       = 43
	AddressRequest       = 50
	AddressTime          = 51
	Overload             = 52
	MessageType          = 53
	ServerID             = 54
	ParameterList        = 55
	Message              = 56
	MaxMessageSize       = 57
	RenewalTime          = 58
	RebindingTime        = 59
	ClassID              = 60
	ClientID             = 61
	UserClass            = 77  // RFC 3004
	RapidCommit          = 80  // RFC 4039
	ClientFQDN           = 81  // RFC 4702
	RelayAgent           = 82  // RFC 3046
	LastTransaction      = 91  // RFC 4388, seconds since the client was heard
	ClientSystem         = 93  // RFC 4578
	Authentication       = 90  // RFC 3118
	IPv6Only             = 108 // RFC 8925
	AutoConfig           = 116 // RFC 2563
	TimeZone             = 101
	SubnetSelection      = 118
	ClasslessStaticRoute = 121
	VIVendorClass        = 124 // RFC 3925
	VIVendorOptions      = 125 // RFC 3925
	ForceRenewNonce      = 145 // RFC 6704
	TFTPServers          = 150 // RFC 5859
	VirtualSubnet        = 221 // RFC 6607
	End                  = 255
)

func one(k Kind) Type            { return Type{Fields: []Kind{k}} }
func list(k ...Kind) Type        { return Type{Fields: k, Array: true} }
func record(k ...Kind) Type      { return Type{Fields: k} }
func withTail(k ...Kind) Type    { return Type{Fields: k, Tail: true} }
func managed(d Def) Def          { d.Managed = true; return d }
func also(rfc string, d Def) Def { d.RFCName = rfc; return d }
func def(code uint16, title string, t Type, meaning string) Def {
	return Def{Code: code, Title: title, Type: t, Meaning: meaning}
}

// Standard4 is the registered DHCPv4 codebook. Titles are those of the IANA
// registry of BOOTP vendor extensions and DHCP options.
var Standard4 = NewCodebook("standard v4", []Def{
	def(1, "Subnet Mask", one(Address), "mask of the client's subnet; computed from the scope"),
	def(2, "Time Offset", one(I32), "seconds east of UTC"),
	def(3, "Router", list(Address), "default routers, best first"),
	def(4, "Time Server", list(Address), "RFC 868 time servers"),
	def(5, "Name Server", list(Address), "IEN 116 name servers"),
	also("Domain Name Server", def(6, "Domain Server", list(Address), "DNS resolvers, best first")),
	def(7, "Log Server", list(Address), "MIT-LCS log servers"),
	also("Cookie Server", def(8, "Quotes Server", list(Address), "quote of the day servers")),
	def(9, "LPR Server", list(Address), "line printer servers"),
	def(10, "Impress Server", list(Address), "image printer servers"),
	also("Resource Location Server", def(11, "RLP Server", list(Address), "resource location servers")),
	also("Host Name", def(12, "Hostname", one(Text), "name of the client")),
	def(13, "Boot File Size", one(U16), "size of the boot file in blocks of 512 octets"),
	def(14, "Merit Dump File", one(Text), "path for a core dump"),
	def(15, "Domain Name", one(Text), "domain the client resolves names in"),
	def(16, "Swap Server", one(Address), "swap server"),
	def(17, "Root Path", one(Text), "path of the root file system"),
	also("Extensions Path", def(18, "Extension File", one(Text), "file with more options")),
	also("IP Forwarding", def(19, "Forward On/Off", one(Bool), "whether the client forwards packets")),
	also("Non-Local Source Routing", def(20, "SrcRte On/Off", one(Bool), "whether source routes are followed")),
	def(21, "Policy Filter", list(Address, Address), "allowed source-routed destinations with masks"),
	also("Maximum Datagram Reassembly Size", def(22, "Max DG Assembly", one(U16), "largest datagram to reassemble, in octets")),
	also("Default IP Time-to-live", def(23, "Default IP TTL", one(U8), "hop limit of packets sent")),
	also("Path MTU Aging Timeout", def(24, "MTU Timeout", one(Duration), "age at which path MTUs are dropped")),
	also("Path MTU Plateau Table", def(25, "MTU Plateau", list(U16), "MTU sizes to try, in octets")),
	also("Interface MTU", def(26, "MTU Interface", one(U16), "MTU of the interface, in octets")),
	also("All Subnets are Local", def(27, "MTU Subnet", one(Bool), "whether all subnets share the MTU")),
	def(28, "Broadcast Address", one(Address), "broadcast address of the subnet"),
	also("Perform Mask Discovery", def(29, "Mask Discovery", one(Bool), "whether to ask for the mask by ICMP")),
	def(30, "Mask Supplier", one(Bool), "whether to answer mask requests"),
	also("Perform Router Discovery", def(31, "Router Discovery", one(Bool), "whether to look for routers by ICMP")),
	also("Router Solicitation Address", def(32, "Router Request", one(Address), "where router solicitations go")),
	def(33, "Static Route", list(Address, Address), "destinations with routers; classful, see 121"),
	also("Trailer Encapsulation", def(34, "Trailers", one(Bool), "whether to negotiate trailers")),
	also("ARP Cache Timeout", def(35, "ARP Timeout", one(Duration), "age at which ARP entries are dropped")),
	also("Ethernet Encapsulation", def(36, "Ethernet", one(Bool), "false Ethernet II, true IEEE 802.3")),
	also("TCP Default TTL", def(37, "Default TCP TTL", one(U8), "hop limit of TCP segments")),
	also("TCP Keepalive Interval", def(38, "Keepalive Time", one(Duration), "time between keepalives")),
	also("TCP Keepalive Garbage", def(39, "Keepalive Data", one(Bool), "whether keepalives carry an octet")),
	also("Network Information Service Domain", def(40, "NIS Domain", one(Text), "NIS domain")),
	also("Network Information Servers", def(41, "NIS Servers", list(Address), "NIS servers")),
	also("Network Time Protocol Servers", def(42, "NTP Servers", list(Address), "NTP servers, best first")),
	also("Vendor Specific Information", def(43, "Vendor Specific", one(Bytes), "sub-options of the client's vendor")),
	also("NetBIOS over TCP/IP Name Server", def(44, "NETBIOS Name Srv", list(Address), "NetBIOS name servers")),
	also("NetBIOS over TCP/IP Datagram Distribution Server",
		def(45, "NETBIOS Dist Srv", list(Address), "NetBIOS datagram distribution servers")),
	also("NetBIOS over TCP/IP Node Type", def(46, "NETBIOS Node Type", one(U8), "1 B-node, 2 P-node, 4 M-node, 8 H-node")),
	also("NetBIOS over TCP/IP Scope", def(47, "NETBIOS Scope", one(Text), "NetBIOS scope")),
	also("X Window System Font Server", def(48, "X Window Font", list(Address), "X font servers")),
	also("X Window System Display Manager", def(49, "X Window Manager", list(Address), "X display managers")),
	managed(also("Requested IP Address", def(50, "Address Request", one(Address), "address the client asks for"))),
	managed(also("IP Address Lease Time", def(51, "Address Time", one(Duration), "lease time; set it as the scope's lease time"))),
	managed(also("Option Overload", def(52, "Overload", one(U8), "sname or file carry options"))),
	managed(also("DHCP Message Type", def(53, "DHCP Msg Type", one(U8), "type of the message"))),
	managed(also("Server Identifier", def(54, "DHCP Server Id", one(Address), "server that speaks"))),
	managed(also("Parameter Request List", def(55, "Parameter List", list(U8), "codes the client wants"))),
	managed(also("Message", def(56, "DHCP Message", one(Text), "reason for a refusal"))),
	managed(also("Maximum DHCP Message Size", def(57, "DHCP Max Msg Size", one(U16), "largest message the client takes, in octets"))),
	also("Renewal (T1) Time Value", def(58, "Renewal Time", one(Duration), "T1; half the lease time unless set")),
	also("Rebinding (T2) Time Value", def(59, "Rebinding Time", one(Duration), "T2; seven eighths of the lease time unless set")),
	also("Vendor Class Identifier", def(60, "Class Id", one(Text), "vendor class")),
	managed(also("Client-identifier", def(61, "Client Id", one(Bytes), "identifier of the client"))),
	def(62, "NetWare/IP Domain", one(Text), "NetWare/IP domain"),
	def(63, "NetWare/IP Option", one(Bytes), "NetWare/IP sub-options"),
	also("Network Information Service+ Domain", def(64, "NIS-Domain-Name", one(Text), "NIS+ domain")),
	also("Network Information Service+ Servers", def(65, "NIS-Server-Addr", list(Address), "NIS+ servers")),
	also("TFTP Server Name", def(66, "Server-Name", one(Text), "TFTP server, by name or address")),
	def(67, "Bootfile-Name", one(Text), "boot file"),
	also("Mobile IP Home Agent", def(68, "Home-Agent-Addrs", list(Address), "mobile IP home agents")),
	also("Simple Mail Transport Protocol Server", def(69, "SMTP-Server", list(Address), "outgoing mail servers")),
	also("Post Office Protocol Server", def(70, "POP3-Server", list(Address), "incoming mail servers")),
	also("Network News Transport Protocol Server", def(71, "NNTP-Server", list(Address), "news servers")),
	also("Default World Wide Web Server", def(72, "WWW-Server", list(Address), "web servers")),
	also("Default Finger Server", def(73, "Finger-Server", list(Address), "finger servers")),
	also("Default Internet Relay Chat Server", def(74, "IRC-Server", list(Address), "chat servers")),
	def(75, "StreetTalk-Server", list(Address), "StreetTalk servers"),
	also("StreetTalk Directory Assistance Server", def(76, "STDA-Server", list(Address), "StreetTalk directory assistance")),
	def(77, "User-Class", list(Counted), "user classes, each with its length (RFC 3004)"),
	def(78, "Directory Agent", withTail(Bool, Address), "SLP directory agents, mandatory or not (RFC 2610)"),
	def(79, "Service Scope", record(Bool, Text), "SLP scopes, mandatory or not (RFC 2610)"),
	def(80, "Rapid Commit", one(Empty), "two messages instead of four (RFC 4039)"),
	def(81, "Client FQDN", record(U8, U8, U8, Bytes), "flags, two result codes, name (RFC 4702)"),
	managed(def(82, "Relay Agent Information", one(Bytes), "added by a relay, echoed (RFC 3046)")),
	def(83, "iSNS", one(Bytes), "storage name service (RFC 4174)"),
	def(85, "NDS Servers", list(Address), "NDS servers (RFC 2241)"),
	def(86, "NDS Tree Name", one(Text), "NDS tree (RFC 2241)"),
	def(87, "NDS Context", one(Text), "NDS context (RFC 2241)"),
	def(88, "BCMCS Controller Domain Name list", one(Names), "broadcast service controllers (RFC 4280)"),
	def(89, "BCMCS Controller IPv4 address option", list(Address), "broadcast service controllers (RFC 4280)"),
	def(90, "Authentication", one(Bytes), "authentication (RFC 3118)"),
	def(91, "client-last-transaction-time option", one(Duration), "time since the client was heard (RFC 4388)"),
	def(92, "associated-ip option", list(Address), "other addresses of the client (RFC 4388)"),
	def(93, "Client System", list(U16), "machine architectures (RFC 4578)"),
	def(94, "Client NDI", record(U8, U8, U8), "network interface type and version (RFC 4578)"),
	def(95, "LDAP", one(Text), "directory server (RFC 3679)"),
	def(97, "UUID/GUID", record(U8, Bytes), "machine identifier (RFC 4578)"),
	def(98, "User-Auth", one(Text), "user authentication servers (RFC 2485)"),
	def(99, "GEOCONF_CIVIC", one(Bytes), "civic location (RFC 4776)"),
	def(100, "PCode", one(Text), "POSIX time zone (RFC 4833)"),
	def(TimeZone, "TCode", one(Text), "time zone by name (RFC 4833)"),
	def(108, "IPv6-Only Preferred", one(Duration), "how long to do without IPv4 (RFC 8925)"),
	def(109, "OPTION_DHCP4O6_S46_SADDR", one(Bytes), "softwire source address (RFC 8539)"),
	def(112, "Netinfo Address", list(Address), "parent servers (RFC 3679)"),
	def(113, "Netinfo Tag", one(Text), "parent server tag (RFC 3679)"),
	def(114, "DHCP Captive-Portal", one(Text), "address of the captive portal's API (RFC 8910)"),
	def(116, "Auto-Config", one(Bool), "whether the client may choose a link-local address (RFC 2563)"),
	def(117, "Name Service Search", list(U16), "order of name services, by option code (RFC 2937)"),
	managed(def(118, "Subnet Selection Option", one(Address), "subnet the client is to be served from (RFC 3011)")),
	def(119, "Domain Search", one(Names), "domains searched in order (RFC 3397)"),
	def(120, "SIP Servers DHCP Option", one(SIP), "SIP servers, names or addresses (RFC 3361)"),
	also("Classless Route", def(121, "Classless Static Route Option", list(Route), "routes; clients then ignore option 3 (RFC 3442)")),
	def(122, "CCC", one(Bytes), "cable client configuration (RFC 3495)"),
	def(123, "GeoConf Option", one(Bytes), "location (RFC 6225)"),
	def(124, "V-I Vendor Class", list(U32, Counted), "vendor classes by enterprise number (RFC 3925)"),
	def(125, "V-I Vendor-Specific Information", one(Bytes), "vendor options by enterprise number (RFC 3925)"),
	def(136, "OPTION_PANA_AGENT", list(Address), "network access authentication agents (RFC 5192)"),
	def(137, "OPTION_V4_LOST", one(Name), "location-to-service server (RFC 5223)"),
	def(138, "OPTION_CAPWAP_AC_V4", list(Address), "access point controllers (RFC 5417)"),
	def(139, "OPTION-IPv4_Address-MoS", one(Bytes), "mobility services, addresses (RFC 5678)"),
	def(140, "OPTION-IPv4_FQDN-MoS", one(Bytes), "mobility services, names (RFC 5678)"),
	def(141, "SIP UA Configuration Service Domains", one(Names), "SIP configuration domains (RFC 6011)"),
	def(142, "OPTION-IPv4_Address-ANDSF", list(Address), "network discovery servers (RFC 6153)"),
	def(143, "OPTION_V4_SZTP_REDIRECT", one(Bytes), "bootstrap servers (RFC 8572)"),
	def(144, "GeoLoc", one(Bytes), "location with uncertainty (RFC 6225)"),
	def(145, "FORCERENEW_NONCE_CAPABLE", list(U8), "client can be nudged, algorithms (RFC 6704)"),
	def(146, "RDNSS Selection", record(U8, Address, Address, Names), "preferred resolvers for domains (RFC 6731)"),
	def(147, "OPTION_V4_DOTS_RI", one(Name), "threat signalling agent by name (RFC 8973)"),
	def(148, "OPTION_V4_DOTS_ADDRESS", list(Address), "threat signalling agents (RFC 8973)"),
	def(150, "TFTP server address", list(Address), "TFTP servers (RFC 5859)"),
	def(151, "status-code", record(U8, Text), "status of a lease query (RFC 6926)"),
	def(152, "base-time", one(U32), "time of the answer, seconds since 1970 (RFC 6926)"),
	def(153, "start-time-of-state", one(Duration), "time in the present state (RFC 6926)"),
	def(154, "query-start-time", one(U32), "start of the query's window (RFC 6926)"),
	def(155, "query-end-time", one(U32), "end of the query's window (RFC 6926)"),
	def(156, "dhcp-state", one(U8), "state of a binding (RFC 6926)"),
	def(157, "data-source", one(U8), "local or remote data (RFC 6926)"),
	def(158, "OPTION_V4_PCP_SERVER", one(Bytes), "port control servers (RFC 7291)"),
	def(159, "OPTION_V4_PORTPARAMS", record(U8, U8, U16), "shared address port set (RFC 7618)"),
	def(161, "OPTION_MUD_URL_V4", one(Text), "manufacturer usage description (RFC 8520)"),
	def(162, "OPTION_V4_DNR", one(Bytes), "encrypted resolvers (RFC 9463)"),
	def(208, "PXELINUX Magic", one(Bytes), "boot loader magic (RFC 5071)"),
	def(209, "Configuration File", one(Text), "boot loader configuration (RFC 5071)"),
	def(210, "Path Prefix", one(Text), "boot loader path (RFC 5071)"),
	def(211, "Reboot Time", one(Duration), "boot loader wait (RFC 5071)"),
	def(212, "OPTION_6RD", one(Bytes), "IPv6 rapid deployment (RFC 5969)"),
	def(213, "OPTION_V4_ACCESS_DOMAIN", one(Name), "access network domain (RFC 5986)"),
	def(220, "Subnet Allocation Option", one(Bytes), "subnet allocation (RFC 6656)"),
	def(221, "Virtual Subnet Selection (VSS) Option", one(Bytes), "virtual private network (RFC 6607)"),
})
