package draft

import (
	"fmt"
	"testing"

	"inkret/core/contract"
	"inkret/core/schema"
)

func TestProbe(t *testing.T) {
	s, err := schema.Describe("x.yaml", []byte(`
openapi: 3.1.0
info: {title: Harbour API, version: "1"}
servers: [{url: "https://api.fennick-quay.example"}]
paths:
  /v1/berths/{berth-id}:
    get:
      responses:
        "200":
          content: {application/json: {schema: {type: object, properties: {data: {$ref: "#/components/schemas/Berth"}, meta: {type: object}}}}}
        default: {content: {application/json: {schema: {$ref: other.yaml#/Problem}}}}
  /v1/skippers:
    post:
      security: [{key: []}]
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Skipper"}}}}
      responses:
        "201": {content: {application/json: {schema: {$ref: "#/components/schemas/Skipper"}}}}
        "204": {}
components:
  schemas:
    Berth:
      required: [id, label]
      properties:
        id: {type: integer}
        label: {type: string, maxLength: 8}
        bookings: {type: array, items: {$ref: "#/components/schemas/Booking"}}
        tags: {type: array, items: {type: string}}
        next: {$ref: "#/components/schemas/Berth"}
    Booking:
      allOf:
        - $ref: "#/components/schemas/Base"
        - properties: {berth: {$ref: "#/components/schemas/Berth"}, skipper: {oneOf: [{$ref: "#/components/schemas/Skipper"}, {type: "null"}]}, state: {enum: [open, closed]}}
    Base: {properties: {id: {type: [integer, "null"]}}}
    Skipper: {properties: {id: {type: integer, readOnly: true}, email: {type: string}, password: {type: string, writeOnly: true}, tier: {type: string}}}
`))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(s, Options{From: "x.yaml"})
	fmt.Println(d.Text, s.Notes, d.Questions)
	if _, err := contract.Read(contract.File{Name: "d.yaml", Data: []byte(d.Text)}); err != nil {
		t.Fatal(err)
	}
}
