package wire

import "time"

// Me is who is asking.
type Me struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"owner,builder,viewer"`
}

// Credentials log somebody in.
type Credentials struct {
	Name     string `json:"name" minLength:"1" maxLength:"60"`
	Password string `json:"password" minLength:"1" maxLength:"256"`
}

// NewPassword changes one's own password, or, asked for by an owner, somebody else's. Old is one's own.
type NewPassword struct {
	Old string `json:"old,omitempty" maxLength:"256"`
	New string `json:"new" minLength:"10" maxLength:"256"`
}

// User is somebody who may use the service.
type User struct {
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	CreatedAt time.Time `json:"created_at"`
}

// NewUser makes a user.
type NewUser struct {
	Name     string `json:"name" pattern:"^[a-z0-9][a-z0-9._-]*$" maxLength:"60"`
	Role     string `json:"role" enum:"owner,builder,viewer"`
	Password string `json:"password" minLength:"10" maxLength:"256"`
}

// NewToken asks for a token for oneself.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"60"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"after which it is of no use any more; 0 for never"`
}

// Token is shown once.
type Token struct {
	Token string `json:"token"`
}

// TokenName is a token without its secret.
type TokenName struct {
	Name      string     `json:"name"`
	User      string     `json:"user"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
}
