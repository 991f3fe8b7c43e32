package notify

import (
	"net/url"

	"rotanex.example/api"
)

// record is a receiver as the contract has it. Its secret is not in it, nor what comes after
// the host in the address of a web hook: that is often one, too.
func (n *Notify) record(r Receiver) api.Receiver {
	out := api.Receiver{Name: r.Name, Address: shown(r.Address), Fault: r.Fault, CreatedAt: r.CreatedAt.UTC(), Subjects: []api.NoticeSubject{}, Quiet: []api.Hours{}}
	for _, s := range r.Subjects {
		out.Subjects = append(out.Subjects, api.NoticeSubject(s))
	}
	for _, h := range r.Quiet {
		out.Quiet = append(out.Quiet, api.Hours{Days: h.Days, From: h.From, To: h.To})
	}
	if now := n.Clock.Now(); r.Fault != "" && r.NextAt.After(now) {
		out.NextAt = r.NextAt.UTC()
	}
	return out
}

func noticeRecord(x Notice) api.Notice {
	out := api.Notice{Id: x.ID, Receiver: x.Receiver, Subject: api.NoticeSubject(x.Subject), Run: x.RunID, Text: x.Text, At: x.At.UTC(), State: api.NoticeState(x.State)}
	if x.SentAt != nil {
		out.SentAt = x.SentAt.UTC()
	}
	return out
}

func shown(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return address
	}
	if u.RequestURI() == "/" && u.User == nil {
		return u.Scheme + "://" + u.Host
	}
	return u.Scheme + "://" + u.Host + "/…"
}
