package edge

import (
	"encoding/json"
	"net/http"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// What is proved, and what is not: that whoever answered knows the store's id, and got the host
// that was asked for. A proxy that passes requests on to a node proves as much as the node, and
// is meant to; where it stands, and who runs it, no challenge can tell.

// knowsStore notes which store the node serves, by its mark.
func knowsStore(n *Node, mark string) {
	// The first stores have no id: for them nothing can be proved.
	if id, err := storage.CheckMark([]byte(mark)); err == nil && id != "" {
		n.is.store.Store(&id)
	}
}

// StoreID returns the random id of the store that a node serves; "" while that is not known.
func StoreID(n *Node) string {
	if id := n.is.store.Load(); id != nil {
		return *id
	}
	return ""
}

// prove answers the challenge with which people find out whether a name leads to an edge of
// their store (names.ProofPath), at any host: also at one that nobody has configured yet.
// It asks nothing of the store. What is not a challenge, or cannot be answered, is not
// found.
func prove(n visit, w http.ResponseWriter, r *http.Request) {
	connections.Unwanted(w, r)
	nonce := strings.TrimPrefix(r.URL.Path, names.ProofPath)
	// A node that has not seen its store yet has nothing to prove, and says so as anybody would
	// who is no node.
	id := n.is.store.Load()
	if id == nil || !names.IsNonce(nonce) || !rightMethod(r) {
		httpanswer.Say(w, r, http.StatusNotFound, "There is nothing at this address.")
		return
	}
	host := httpanswer.HostName(r.Host)
	// What is told of the authority stands in every certificate too.
	proof := names.ProofAnswer{Proof: names.ProofOf(*id, host, nonce),
		Secure: httpanswer.Scheme(r) == "https"}
	if n.options.Orders != nil {
		proof.Issuer, proof.Orders = n.options.Orders(host)
	}
	data, err := json.Marshal(proof)
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	header := w.Header()
	header.Set("Content-Type", "application/json")
	header.Set("Cache-Control", "no-store")
	header.Set("X-Content-Type-Options", "nosniff")
	data = append(data, '\n')
	header.Set("Content-Length", strconv.Itoa(len(data)))
	w.WriteHeader(http.StatusOK)
	if r.Method != http.MethodHead {
		w.Write(data) //nolint:errcheck // whoever asked has gone
	}
}
