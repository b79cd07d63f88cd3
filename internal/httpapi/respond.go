package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/strictjson"
)

// bodyOf reads the body of a request. Its error is a problem.
func bodyOf[T any](c fiber.Ctx) (body T, err error) {
	err = strictjson.Read(c.Body(), &body)
	return body, err
}

// respond answers with what a use case has returned.
func respond(c fiber.Ctx) func(document any, err error) error {
	return func(document any, err error) error {
		if err != nil {
			return err
		}
		return c.JSON(document)
	}
}

// nothing answers that it was done, or why not.
func nothing(c fiber.Ctx, err error) error {
	if err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}
