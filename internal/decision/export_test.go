package decision

// MakeCodes makes the codes of refusals those of a function.
func (s *Service) MakeCodes(next func() string) { s.newCode = next }
