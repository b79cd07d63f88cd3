// Verifies a signature with the npm package standardwebhooks: SECRET ID TIMESTAMP SIGNATURE BODY.
import { Webhook } from "../web/node_modules/standardwebhooks/dist/index.js";

const [secret, id, timestamp, signature, body] = process.argv.slice(2);
new Webhook(Buffer.from(secret).toString("base64")).verify(body, {
  "webhook-id": id,
  "webhook-timestamp": timestamp,
  "webhook-signature": signature,
});
