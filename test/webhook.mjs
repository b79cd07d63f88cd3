// Checks requests of hooks, a JSON object a line with id, timestamp, signature, type and
// body, with the npm packages standardwebhooks and cloudevents. The secret is the first
// argument: whsec_..., or as it is when it has no such beginning. Prints how many there were.
import { HTTP, ValidationError } from "../web/node_modules/cloudevents/dist/index.js";
import { Webhook } from "../web/node_modules/standardwebhooks/dist/index.js";
import { createInterface } from "node:readline";

const [secret, plain] = process.argv.slice(2);
const webhook = new Webhook(secret.startsWith("whsec_") ? secret : Buffer.from(secret).toString("base64"));
let count = 0;
for await (const line of createInterface({ input: process.stdin })) {
  const { id, timestamp, signature, type, body } = JSON.parse(line);
  webhook.verify(body, { "webhook-id": id, "webhook-timestamp": timestamp, "webhook-signature": signature });
  if (plain !== "no-event") {
    const event = HTTP.toEvent({ headers: { "content-type": type }, body });
    if (!event.validate() || event.id !== id) {
      throw new ValidationError(`not the event ${id}: ${body}`);
    }
  }
  count++;
}
console.log(count);
