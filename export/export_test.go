package export

import (
	"fmt"
	"os"
	"testing"

	"inkret/core/advice"
	"inkret/core/contract"
)

func TestProbe(t *testing.T) {
	a, _ := os.ReadFile("../demo/contracts/catalogue.yaml")
	b, _ := os.ReadFile("../demo/contracts/fennick-quay.yaml")
	c, err := contract.Read(contract.File{Name: "c", Data: a}, contract.File{Name: "f", Data: b})
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println(string(TypeScript(c))[:2500])
	fmt.Println(string(OpenAPI(c))[:2500])
	fmt.Println(string(JSONSchemas(c)[0].File), string(JSONSchemas(c)[0].Data))
	for _, x := range advice.On(c, nil) {
		fmt.Println(x.Pos, x.Code, x.Endpoint, x.About, x.Text)
	}
}
