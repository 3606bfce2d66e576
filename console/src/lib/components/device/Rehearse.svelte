<!-- Bytes put through decoding and all that follows as if they had been received. -->
<script lang="ts">
  import { api, call, type RehearsalOutcome } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import MessageRow from "#lib/components/traffic/MessageRow.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action } from "#lib/resource.svelte.ts";
  import { instant, moment, MOMENT } from "#lib/format.ts";

  let { eui, again = $bindable(null) }: { eui: string; again?: string | null } = $props();
  let payload = $state("");
  let port = $state<number | null>(null);
  let rssi = $state<number | null>(null);
  let snr = $state<number | null>(null);
  /** In the zone in which times are shown. */
  let time = $state("");
  let outcome = $state<RehearsalOutcome | null>(null);
  const act = new Action();
  const working = $derived(act.busy);

  async function go() {
    const params = { path: { estate: session.estate, eui } };
    const body = () => ({
      payload: payload.trim() || null,
      again: payload.trim() ? null : again,
      port,
      rssi_dbm: rssi,
      snr_db: snr,
      time: time.trim() ? instant(time) : null,
    });
    outcome = (await act.run(() => call(api.POST("/api/v1/estates/{estate}/devices/{eui}/rehearse", { params, body: body() })))) ?? null;
  }
</script>

<Card id="rehearse">
  <h2 class="mb-1">Rehearse</h2>
  <p class="mb-2 text-sm text-base-content/80">
    Decodes and delivers bytes as if they had been received. Rehearsals are marked and change no counter, ledger or reading.
  </p>
  <form
    class="flex flex-wrap items-end gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void go();
    }}
    aria-label="Rehearse"
  >
    <label class="min-w-40 flex-1 text-sm"
      ><span class="block text-base-content/75">Payload{again ? ", or that of the uplink chosen" : ""}</span>
      <input
        class="input input-sm w-full font-mono"
        name="payload"
        bind:value={payload}
        placeholder={again ? "as it was" : "01 0a ff"}
        required={!again}
        autocomplete="off"
        spellcheck="false"
      />
    </label>
    <label class="text-sm"
      ><span class="block text-base-content/75">Port</span><input
        class="input input-sm w-20"
        name="port"
        type="number"
        min="1"
        max="223"
        bind:value={port}
        placeholder={again ? "as it was" : "1"}
      /></label
    >
    <label class="text-sm"
      ><span class="block text-base-content/75">RSSI, dBm</span><input
        class="input input-sm w-24"
        type="number"
        min="-200"
        max="50"
        step="any"
        bind:value={rssi}
        placeholder="as last"
      /></label
    >
    <label class="text-sm"
      ><span class="block text-base-content/75">SNR, dB</span><input
        class="input input-sm w-24"
        type="number"
        min="-50"
        max="50"
        step="any"
        bind:value={snr}
        placeholder="as last"
      /></label
    >
    <label class="text-sm"
      ><span class="block text-base-content/75">Received at</span><input
        class="input input-sm w-44 tabular-nums"
        name="time"
        bind:value={time}
        placeholder={moment(Date.now())}
        pattern={MOMENT}
        title="A date and time, such as 2026-05-04 09:12:33"
        autocomplete="off"
      /></label
    >
    <button class="btn btn-sm" disabled={working}>Rehearse</button>
  </form>
  <Notice text={act.problem} />
  {#if outcome}
    <ul class="mt-2" data-rehearsal><MessageRow message={outcome.message} named={false} /></ul>
    <p class="text-sm text-base-content/75">Went to: {outcome.went_to.join(", ")}</p>
  {/if}
</Card>
