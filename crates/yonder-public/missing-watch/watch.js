document.getElementById("message").textContent = "This program was built without its public pages. Run make console and build it again.";
