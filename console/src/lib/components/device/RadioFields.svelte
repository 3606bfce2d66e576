<!-- Radio and MAC settings as fields, of a profile or of one device. What is empty follows what lies below. -->
<script lang="ts">
  import type { RadioSettings } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";

  type Radio = Partial<RadioSettings>;
  type Rates = NonNullable<RadioSettings["rates"]>;
  /** What applies where nothing is set here, as far as it is known. */
  let { radio = $bindable(), inherited = {} }: { radio: Radio; inherited?: Radio } = $props();

  /** What an empty field says: the value that applies, or where it comes from. */
  function inherits(name: string): string {
    const value = inherited[name as keyof Radio];
    if (value == null || typeof value === "object") return "inherits";
    return `inherits ${typeof value === "boolean" ? (value ? "yes" : "no") : value}`;
  }

  /** Settings that are a number, with what they are called and allowed. */
  const NUMBERS = [
    ["rx_delay_s", "RX1 delay, s", 1, 15],
    ["rx1_data_rate_offset", "RX1 data rate offset", 0, 7],
    ["rx2_data_rate", "RX2 data rate", 0, 15],
    ["rx2_frequency_hz", "RX2 frequency, Hz", 0, 4_000_000_000],
    ["max_eirp_dbm", "Maximum EIRP, dBm", -20, 36],
    ["max_duty_cycle", "Duty cycle 1/2ⁿ, n", 0, 15],
    ["status_interval_s", "Status request every, s", 0, 31_536_000],
    ["ack_timeout_s", "Acknowledgement timeout, s", 1, 3600],
    ["attempts", "Transmissions of a downlink", 1, 50],
    ["uplink_interval_s", "Expected interval, s", 1, 31_536_000],
    ["max_counter_gap", "Largest counter gap", 0, 4_294_967_295],
  ] as const;
  /** Numbers that only LoRaWAN 1.1 knows. */
  const ONLY_1_1 = [
    ["adr_ack_limit", "ADR_ACK_LIMIT, uplinks"],
    ["adr_ack_delay", "ADR_ACK_DELAY, uplinks"],
    ["rejoin_interval_s", "Rejoins every, s"],
    ["rejoin_interval_uplinks", "Rejoins every, uplinks"],
    ["renew_session_days", "Renew session after, days"],
  ] as const;
  const VERSIONS = ["1.0.0", "1.0.1", "1.0.2", "1.0.3", "1.0.4", "1.1"];
  const REVISIONS = [
    "TS001-1.0.1",
    "RP001-1.0.2-B",
    "RP001-1.0.3-A",
    "RP001-1.1-A",
    "RP001-1.1-B",
    "RP002-1.0.0",
    "RP002-1.0.1",
    "RP002-1.0.2",
    "RP002-1.0.3",
    "RP002-1.0.4",
  ];
  const CHOICES = [
    ["mac_version", "LoRaWAN", VERSIONS],
    ["regional_revision", "Regional parameters", REVISIONS],
    ["activation", "Activation", ["OTAA", "ABP"]],
    ["class", "Class", ["A", "B", "C"]],
  ] as const;
  const LIMITS = {
    network: [
      ["min_data_rate", "slowest DR"],
      ["max_data_rate", "fastest DR"],
      ["max_tx_power", "highest TXPower"],
      ["max_nb_trans", "most repetitions"],
      ["margin_db", "margin, dB"],
    ],
    profile: [
      ["data_rate", "data rate"],
      ["tx_power", "TXPower"],
      ["nb_trans", "repetitions"],
    ],
    device: [],
  } as const;

  const set = (field: string, value: unknown) => (radio = { ...radio, [field]: value === "" ? undefined : value });
  const number = (text: string) => (text === "" ? undefined : Number(text));
  const rates = $derived(radio.rates as (Rates & Record<string, number | boolean | string | undefined>) | null | undefined);

  /** RX1 frequencies as people type them: "3:869525000 4:869525000". */
  function downlinkChannels(text: string): { channel: number; frequency_hz: number }[] | undefined {
    const all = text
      .split(/[\s,;]+/)
      .filter(Boolean)
      .map((one) => one.split(":").map(Number));
    return all.length > 0 ? all.map(([channel, frequency_hz]) => ({ channel: channel ?? 0, frequency_hz: frequency_hz ?? 0 })) : undefined;
  }

  /** The frequencies in a list as people type them. */
  function frequencies(text: string): number[] | undefined {
    const all = text
      .split(/[\s,;]+/)
      .filter(Boolean)
      .map(Number);
    return all.length > 0 ? all : undefined;
  }
</script>

{#snippet field(words: string, name: string, value: unknown, take: (text: string) => void, type = "number", width = "w-40")}
  <Field label={words}>
    <input
      class="input input-sm {width}"
      {type}
      step="any"
      {name}
      value={value ?? ""}
      oninput={(e) => take(e.currentTarget.value)}
      placeholder={inherits(name)}
      autocomplete="off"
    />
  </Field>
{/snippet}

{#snippet choice(words: string, name: string, value: unknown, among: readonly (string | readonly [string, string])[], take: (text: string) => void)}
  <Field label={words}>
    <select class="select select-sm w-40" {name} value={value ?? ""} onchange={(e) => take(e.currentTarget.value)}>
      <option value="">{inherits(name)}</option>
      {#each among as one (one)}
        {#if typeof one === "string"}<option value={one}>{one}</option>{:else}<option value={one[0]}>{one[1]}</option>{/if}
      {/each}
    </select>
  </Field>
{/snippet}

<div class="flex flex-wrap items-end gap-3">
  {#each CHOICES as [name, words, among] (name)}
    {@render choice(words, name, radio[name], among, (text) => set(name, text))}
  {/each}
  {#each NUMBERS as [name, words] (name)}
    {@render field(words, name, radio[name], (text) => set(name, number(text)))}
  {/each}
  {@render field("Channels", "channels", radio.channels, (text) => set("channels", text), "text")}
  {@render field(
    "Extra channels, Hz",
    "extra_frequencies_hz",
    radio.extra_frequencies_hz?.join(" "),
    (text) => set("extra_frequencies_hz", frequencies(text)),
    "text",
  )}
  <Field label="RX1 frequency, channel:Hz">
    <input
      class="input input-sm w-40"
      type="text"
      name="downlink_channels"
      value={radio.downlink_channels?.map((c) => `${c.channel}:${c.frequency_hz}`).join(" ") ?? ""}
      onchange={(e) => set("downlink_channels", downlinkChannels(e.currentTarget.value))}
      placeholder="inherits"
      autocomplete="off"
    />
  </Field>
  {@render choice(
    "Counter restart",
    "counter_restart",
    radio.counter_restart,
    [
      ["false", "is refused"],
      ["true", "is accepted"],
    ],
    (text) => set("counter_restart", text && text === "true"),
  )}
  {@render choice(
    "Dwell time of 400 ms",
    "dwell_time",
    radio.dwell_time,
    [
      ["true", "holds"],
      ["false", "does not hold"],
    ],
    (text) => set("dwell_time", text && text === "true"),
  )}
</div>
<div class="mt-3 flex flex-wrap items-end gap-3">
  {@render choice(
    "The data rate is set by",
    "rates",
    rates?.by,
    [
      ["network", "the network (ADR)"],
      ["profile", "these settings"],
      ["device", "the device"],
    ],
    (by) => set("rates", by && (by === "profile" ? { by, data_rate: 0 } : { by })),
  )}
  {#if rates}
    {#each LIMITS[rates.by] as [name, words] (name)}
      {@render field(words, name, rates[name], (text) => set("rates", { ...rates, [name]: number(text) }), "number", "w-32")}
    {/each}
    {#if rates.by === "network"}
      <label class="flex h-8 items-center gap-2 text-sm">
        <input
          class="checkbox checkbox-sm"
          type="checkbox"
          name="mobile"
          checked={rates.mobile === true}
          onchange={(e) => set("rates", { ...rates, mobile: e.currentTarget.checked })}
        />
        moves
      </label>
    {/if}
  {/if}
</div>
{#if radio.mac_version === "1.1" || ONLY_1_1.some(([name]) => radio[name])}
  <div class="mt-3 flex flex-wrap items-end gap-3">
    {#each ONLY_1_1 as [name, words] (name)}
      {@render field(words, name, radio[name], (text) => set(name, number(text)))}
    {/each}
  </div>
{/if}
{#if radio.class === "B" || radio.ping_period_s || radio.ping_slot}
  <div class="mt-3 flex flex-wrap items-end gap-3">
    {@render choice(
      "Ping slot period",
      "ping_period_s",
      radio.ping_period_s,
      [1, 2, 4, 8, 16, 32, 64, 128].map((s) => [String(s), `${s} s`] as const),
      (text) => set("ping_period_s", number(text)),
    )}
    {@render field("Beacon frequency, Hz", "beacon_frequency_hz", radio.beacon_frequency_hz, (text) => set("beacon_frequency_hz", number(text)))}
    {@render field("Ping slots' frequency, Hz", "ping_frequency_hz", radio.ping_slot?.frequency_hz, (text) =>
      set("ping_slot", text && { data_rate: radio.ping_slot?.data_rate ?? 0, frequency_hz: Number(text) }),
    )}
    {#if radio.ping_slot}
      {@render field("Ping slots' data rate", "ping_data_rate", radio.ping_slot.data_rate, (text) =>
        set("ping_slot", radio.ping_slot && { ...radio.ping_slot, data_rate: Number(text) }),
      )}
    {/if}
  </div>
{/if}
