<!-- What a page shows until its first answer is there. -->
<p role="status"><span class="loading loading-md loading-dots" aria-hidden="true"></span><span class="sr-only">Loading…</span></p>
