package broker

// ClientAddress returns where the server listens for clients, none of which it lets in.
func (s *Server) ClientAddress() string { return s.is.Addr().String() }

// Routes returns how many connections the server has to others.
func (s *Server) Routes() int { return s.is.NumRoutes() }
