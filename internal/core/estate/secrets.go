package estate

// SecretUses says of each secret where an estate has it sent: "snmp://198.51.100.7:161".
func (e *Estate) SecretUses() map[string][]string {
	uses := map[string][]string{}
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, ep := range d.Endpoints {
			if ep.Secret == "" {
				continue
			}
			for _, a := range ep.Addresses {
				uses[ep.Secret] = append(uses[ep.Secret], string(ep.Protocol)+"://"+a)
			}
		}
		if d.Wake != nil && d.Wake.Secret != "" {
			uses[d.Wake.Secret] = append(uses[d.Wake.Secret], "wake://"+d.Wake.Broadcast)
		}
	}
	return uses
}
