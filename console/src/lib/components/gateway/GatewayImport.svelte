<!-- Many gateways from a CSV file. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import ImportPanel from "#lib/components/common/ImportPanel.svelte";
  import Words from "#lib/components/common/Words.svelte";

  let { done }: { done: () => void } = $props();

  async function send(csv: Blob, { preview, skipBad }: { preview: boolean; skipBad: boolean }) {
    const body = { csv: await csv.text(), skip_bad: skipBad, preview };
    return await call(api.POST("/api/v1/estates/{estate}/gateways/import", { params: { path: { estate: session.estate } }, body }));
  }
</script>

<ImportPanel title="Import gateways from a CSV file" eui="EUI" {send} {done}>
  {#snippet columns()}
    <Words
      text="The first line names the columns, in any order; each line after it is one gateway. `eui` and `name` are needed. Others: `description, region, channels, protocol, udp_source, latitude_deg, longitude_deg, altitude_m, antenna_gain_dbi, cable_loss_db, open_to_others, beacons`. Columns are separated by commas, semicolons or tabs."
    />
  {/snippet}
</ImportPanel>
