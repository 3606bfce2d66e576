import { createHmac, timingSafeEqual } from "node:crypto";
import { createServer } from "node:http";

const secret = process.env.SIGNING_SECRET ?? "";

function isOurs(headers, body) {
  const told = headers["keen-heron-time"];
  const expected = createHmac("sha256", secret).update(`${told}\n`).update(body).digest();
  const given = Buffer.from(headers["keen-heron-signature"] ?? "", "hex");
  const fresh = Math.abs(Date.now() / 1000 - Number(told)) < 300;
  return fresh && given.length === expected.length && timingSafeEqual(given, expected);
}

createServer(async (request, response) => {
  const parts = [];
  for await (const part of request) parts.push(part);
  const body = Buffer.concat(parts);
  const good = !secret || isOurs(request.headers, body);
  if (good) for (const message of [JSON.parse(body)].flat()) console.log(JSON.stringify(message));
  response.writeHead(good ? 204 : 401).end();
}).listen(Number(process.env.PORT ?? 8080));
