// A stand-in for another system: a web server that takes messages from outlets and prints each as a line.
//
//   node sink.mjs PORT     everything but /pump-house is taken; that answers 503
import { createServer } from "node:http";

const LARGEST = 4 << 20;

createServer((request, response) => {
  let body = "";
  request.on("data", (part) => {
    if (body.length < LARGEST) body += part;
  });
  request.on("end", () => {
    if (request.url.startsWith("/pump-house")) {
      response.writeHead(503, { "content-type": "text/plain" }).end("The pump house is locked until spring.\n");
      return;
    }
    console.log(body);
    response.writeHead(204).end();
  });
}).listen(Number(process.argv[2]), "127.0.0.1");
