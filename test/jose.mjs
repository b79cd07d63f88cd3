// Signs a token with the npm package jose, an implementation of JWT that is not ours:
// ALGORITHM KID [SECRET]. Prints the token, the public key in PEM (or the secret) and the JWK.
import { exportJWK, exportSPKI, generateKeyPair, SignJWT } from "../web/node_modules/jose/dist/webapi/index.js";

const [algorithm, kid, secret] = process.argv.slice(2);
const pair = algorithm === "HS256" ? undefined : await generateKeyPair(algorithm, { extractable: true });
const token = await new SignJWT({ name: "Jo", tovik: { rooms: ["basin.*"] } })
  .setProtectedHeader({ alg: algorithm, kid })
  .setSubject("jo")
  .setIssuer("https://id.example")
  .setAudience("tovik")
  .setIssuedAt()
  .setExpirationTime("1h")
  .sign(pair ? pair.privateKey : new TextEncoder().encode(secret));
const key = pair ? await exportSPKI(pair.publicKey) : secret;
const jwk = pair ? { ...(await exportJWK(pair.publicKey)), kid, alg: algorithm, use: "sig" } : undefined;
console.log(JSON.stringify({ token, key, jwk }));
