// A downlink while somebody writes it.
import type { NewOutboxItem, TestCommand } from "./api";

/** The ways to say what is sent, each with an example. */
export const PLACEHOLDERS = { payload: "28", payload_base64: "KA==", text: "reboot", values: '{"opening": 40}' };
export type Form = keyof typeof PLACEHOLDERS;

export class DownlinkDraft {
  #chosen = $state<Form | null>(null);
  #commands: () => TestCommand[] | null;
  port = $state<number | null>(10);
  content = $state("");
  confirmed = $state(false);
  first = $state(false);
  expiresInS = $state(0);

  /** `commands` are examples for the model's encoder; null if there is none. */
  constructor(commands: () => TestCommand[] | null) {
    this.#commands = commands;
  }

  get commands(): TestCommand[] | null {
    return this.#commands();
  }

  /** How it is said. What the encoder is known to take is offered first: it is more than anybody guesses. */
  get form(): Form {
    return this.#chosen ?? (this.commands?.length ? "values" : "payload");
  }

  set form(to: Form) {
    [this.#chosen, this.content] = [to, ""];
  }

  /** Takes a known command over. */
  choose(command: TestCommand) {
    this.content = JSON.stringify(command.values);
    this.port = null;
  }

  /** As the service takes it; null if its values are no JSON yet. */
  item(): NewOutboxItem | null {
    const about = { port: this.port, confirmed: this.confirmed, first: this.first, expires_in_s: this.expiresInS || null };
    if (this.form !== "values") return { ...about, [this.form]: this.content };
    try {
      return { ...about, values: JSON.parse(this.content || "{}") };
    } catch {
      return null;
    }
  }

  /** Why it cannot be sent as it stands; empty if that is for the service to say. */
  problem(): string {
    if (this.content === "" || this.item()) return "";
    return 'values: this is not a JSON object yet, such as {"opening": 40}';
  }
}
