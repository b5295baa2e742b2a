package check

var identityRules = []Rule{
	{
		Name: "account-unknown", Severity: Error, Needs: Host, Mends: true,
		Title:   "no such account or group on the host",
		Text:    "Names of accounts are looked up on the host of the stack, not on the machine that runs lantern.",
		Mistake: `owner = "keper"`,
		Mended:  `owner = "keeper"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				if why := s.Stack.Host.Survey.Unknown["accounts"]; why != "" && s.Owner != nil {
					in.skip("host "+s.Stack.Host.Name, why)
				}
			}
			resolverFinds(in)
		},
	}, {
		Name: "account-half", Severity: Error, Needs: Files,
		Title:   "half of an identity: a uid without its gid, or one owner variable only",
		Text:    "What is missing would be filled in by the engine or the image, each in its own way.",
		Mistake: `owner = "1311"`,
		Mended:  `owner = "1311:1400"`,
		Find:    resolverFinds,
	},
}

var zoneRules = []Rule{
	{
		Name: "zone-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "not a time zone of the IANA database, or not in its letter case",
		Text:    "Most programs fall back to UTC without a word when they do not know the zone.",
		Mistake: `timezone = "atlantic/faroe"`,
		Mended:  `timezone = "Atlantic/Faroe"`,
		Find:    resolverFinds,
	},
}
