package wire

import (
	"keenlodge/internal/core/forecast"
	"keenlodge/internal/core/promise"
)

// Forecast is the future of some policies, and what it is taken from.
type Forecast struct {
	forecast.Forecast
	From string `json:"from" doc:"today, in the site's zone"`
	Zone string `json:"zone"`
	// Guessed are sets of which there is too little experience; their sizes are guesses.
	Guessed []string `json:"guessed"`
	// Unreached says of which stores the room is not known now, and why.
	Unreached []string `json:"unreached"`
	// Proofs tell whether what is owed of proofs can be kept with the hosts that there are; they are of the whole site.
	Proofs []promise.Outlook `json:"proofs,omitempty"`
}
