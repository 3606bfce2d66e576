const url = "https://heron.example/api/v1/estates/ESTATE/messages";
const headers = { Authorization: `Bearer ${process.env.HERON_TOKEN}` };
// Keep `after` between runs, and nothing is missed.
let after = process.env.AFTER ?? "";
for (;;) {
  const answer = await fetch(url + (after ? `&after=${after}` : ""), { headers });
  if (!answer.ok) throw new Error(await answer.text());
  const page = await answer.json();
  for (const message of page.items) {
    console.log(message.time, message.type, message.device?.name, JSON.stringify(message.readings));
  }
  after = page.next;
}
