package e2e

// sameOnCable are the tests that -cable leaves out: they have no stand-in, a process of its own, or one that
// says itself whether it is on a cable.
var sameOnCable = []string{"TestBadCables", "TestBadPhones", "TestBarred", "TestCable", "TestCableFaults",
	"TestCableRefused", "TestCancel", "TestCancelBlockedJSON", "TestCancelEarly", "TestCancelTransfer",
	"TestCommandedOn", "TestCtrlC", "TestGoldenCable", "TestHostile", "TestHostileHome", "TestIdent",
	"TestKeysOfAFragment", "TestKilled", "TestKnotCable", "TestLift", "TestModelContradicted", "TestMoved",
	"TestOneAddress",
	"TestOneNumber",
	"TestPieces", "TestProof", "TestRule", "TestSerialLine", "TestSigner", "TestSlotUnknown",
	"TestStackOfStep",
	"TestTrayStory", "TestTwins", "TestUDP", "TestUndescribed", "TestWhyOnCable", "TestWrapped",
	"TestWrongWords"}
