package build

// What tests of the pieces of rows need to know.
const (
	LeastPiece = leastPiece
	MeanBeyond = meanBeyond
	MostPiece  = mostPiece
)

var EndsPiece = endsPiece
